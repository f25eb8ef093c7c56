"""Figures and other files that a command was asked for. The report room is loaded only then."""

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mending.cli.output import note

if TYPE_CHECKING:
    from mending.case.reasoning import Turn
    from mending.crash.results import CrashesResult
    from mending.disk.scan import DiskMap
    from mending.plan import PlanResult
    from mending.reason import CausesResult
    from mending.source import Output


class Figure(msgspec.Struct, frozen=True):
    """A figure that was asked for: where it goes, in which format, and the title that it gets."""

    output: "Output"
    kind: str
    title: str


def wanted_figure(name: str | None, force: bool, target: str, *never: str) -> Figure | None:
    """The figure, checked before the work is done.

    Args:
        target: of the command, as the person named it; the figure is named after it.
        never: what else it must not be written over, such as the disk of a case.

    Raises:
        UsageError: an ending that cannot be drawn. RefusedError: something is there already.
    """
    if name is None:
        return None
    from mending.report.figures import figure_kind  # noqa: PLC0415 - lazy: seldom wanted
    from mending.source import settle_output  # noqa: PLC0415 - lazy: as above

    kind = figure_kind(Path(name))
    output = settle_output(name, force=force, never=(target, *never))
    return Figure(output, kind, Path(target.rstrip("/")).name or target)


def draw(figure: Figure | None, maps: Sequence[tuple[str, "DiskMap"]]) -> None:
    """Draw what there is, where a figure was asked for.

    Raises:
        UsageError: the extra `figures` is not installed.
        InputError: the file cannot be written.
    """

    def picture(kind: str, title: str) -> bytes:
        from mending.report.figures import disk_picture  # noqa: PLC0415 - lazy

        return disk_picture(maps, kind, title)

    _draw(figure, maps, "the table stays as it is", picture)


def draw_history(figure: Figure | None, result: "CrashesResult") -> None:
    """Draw when the PC ran and failed, where a figure was asked for. Raises as `draw` does."""

    def picture(kind: str, title: str) -> bytes:
        from mending.report.figures import timeline_picture  # noqa: PLC0415 - lazy

        return timeline_picture(result, kind, title)

    _draw(figure, result.starts, "no record tells when the PC was started", picture)


def draw_minutes(figure: Figure | None, plan: "PlanResult") -> None:
    """Draw the chance of a working PC against minutes, where a figure was asked for. Raises as
    `draw` does.
    """

    def picture(kind: str, title: str) -> bytes:
        from mending.report.figures import plan_picture  # noqa: PLC0415 - lazy

        return plan_picture(plan, kind, title)

    _draw(figure, plan.visits, "the plan has no visit", picture)


def draw_beliefs(figure: Figure | None, causes: "CausesResult", turns: Sequence["Turn"]) -> None:
    """Draw what is believed, where a figure was asked for. Raises as `draw` does."""

    def picture(kind: str, title: str) -> bytes:
        from mending.report.figures import causes_picture  # noqa: PLC0415 - lazy

        return causes_picture(causes, turns, kind, title)

    _draw(figure, causes.causes, "no cause is likely", picture)


def _draw(
    figure: Figure | None,
    there: Sequence[object],
    lacking: str,
    picture: Callable[[str, str], bytes],
) -> None:
    """Save a figure that was asked for, or say why there is nothing to draw."""
    if figure is None:
        return
    if not there:
        note(f"No figure was drawn: {lacking}.", err=True)
        return
    figure.output.write(picture(figure.kind, figure.title))
