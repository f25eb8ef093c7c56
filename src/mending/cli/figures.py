"""Drawing to a file that a command was asked for. The report room is loaded only then."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from mending.model import InputError

if TYPE_CHECKING:
    from mending.case.turns import Turn
    from mending.crash.results import CrashesResult
    from mending.disk.scan import DiskMap
    from mending.plan import PlanResult
    from mending.reason import CausesResult


def wanted_figure(name: str | None) -> Path | None:
    """The path, checked before the work is done.

    Raises:
        UsageError: an ending that cannot be drawn.
    """
    if name is None:
        return None
    from mending.report.figures.disk_figure import check_figure_name  # noqa: PLC0415 - lazy

    return check_figure_name(name)


def draw(path: Path | None, maps: Sequence[tuple[str, "DiskMap"]]) -> None:
    """Draw what there is, where a figure was asked for.

    Raises:
        UsageError: the extra `figures` is not installed.
        InputError: the file cannot be written.
    """

    def save(where: Path) -> None:
        from mending.report.figures.disk_figure import draw_disk  # noqa: PLC0415 - lazy

        draw_disk(maps, where)

    _draw(path, maps, "the table stays as it is", save)


def draw_history(path: Path | None, result: "CrashesResult") -> None:
    """Draw when the PC ran and failed, where a figure was asked for. Raises as `draw` does."""

    def save(where: Path) -> None:
        from mending.report.figures.timeline_figure import draw_timeline  # noqa: PLC0415 - lazy

        draw_timeline(result, where)

    _draw(path, result.starts, "no record tells when the PC was started", save)


def draw_minutes(plan: "PlanResult", picture: Path | None) -> None:
    """Draw the chance of a working PC against minutes, where a figure was asked for. Raises as
    `draw` does.
    """

    def save(where: Path) -> None:
        from mending.report.figures.plan_figure import draw_plan  # noqa: PLC0415 - lazy

        draw_plan(plan, where)

    _draw(picture, plan.visits, "the plan has no visit", save)


def draw_beliefs(causes: "CausesResult", turns: Sequence["Turn"], picture: Path | None) -> None:
    """Draw what is believed, where a figure was asked for. Raises as `draw` does."""

    def save(where: Path) -> None:
        from mending.report.figures.causes_figure import draw_causes  # noqa: PLC0415 - lazy

        draw_causes(causes, turns, where)

    _draw(picture, causes.causes, "no cause is likely", save)


def _draw(
    path: Path | None, there: Sequence[object], lacking: str, save: Callable[[Path], None]
) -> None:
    """Save a figure to a path that was asked for, or say why there is nothing to draw."""
    if path is None:
        return
    if not there:
        click.echo(f"No figure was drawn: {lacking}.", err=True)
        return
    try:
        save(path)
    except OSError as error:
        raise InputError(f"{path} cannot be written: {error.strerror}.") from error
