"""Drawing to a file that a command was asked for."""

from collections.abc import Callable, Sequence
from pathlib import Path

import click

from mending.crash import CrashesResult
from mending.disk import DiskMap
from mending.model import InputError
from mending.plan import PlanResult
from mending.report import check_figure_name, draw_disk, draw_plan, draw_timeline


def wanted_figure(name: str | None) -> Path | None:
    """The path, checked before the work is done. Raises UsageError for an ending that cannot be drawn."""
    return check_figure_name(name) if name is not None else None


def draw(path: Path | None, maps: Sequence[tuple[str, DiskMap]]) -> None:
    """Draw what there is, where a figure was asked for.

    Raises:
        UsageError: the extra `figures` is not installed.
        InputError: the file cannot be written.
    """
    _draw(path, maps, "the table stays as it is", lambda where: draw_disk(maps, where))


def draw_history(path: Path | None, result: CrashesResult) -> None:
    """Draw when the PC ran and failed, where a figure was asked for. Raises as `draw` does."""
    _draw(path, result.starts, "no record tells when the PC was started", lambda where: draw_timeline(result, where))


def draw_minutes(plan: PlanResult, picture: Path | None) -> None:
    """Draw the chance of a working PC against minutes, where a figure was asked for. Raises as `draw` does."""
    _draw(picture, plan.visits, "the plan has no visit", lambda where: draw_plan(plan, where))


def _draw(path: Path | None, there: Sequence[object], lacking: str, save: Callable[[Path], None]) -> None:
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
