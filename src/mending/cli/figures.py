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
    if path is None:
        return
    if not maps:
        click.echo("No figure was drawn: the table stays as it is.", err=True)
        return
    _save(lambda: draw_disk(maps, path), path)


def draw_history(path: Path | None, result: CrashesResult) -> None:
    """Draw when the PC ran and failed, where a figure was asked for. Raises as `draw` does."""
    if path is None:
        return
    if not result.starts:
        click.echo("No figure was drawn: no record tells when the PC was started.", err=True)
        return
    _save(lambda: draw_timeline(result, path), path)


def _save(save: Callable[[], None], path: Path) -> None:
    try:
        save()
    except OSError as error:
        raise InputError(f"{path} cannot be written: {error.strerror}.") from error


def draw_minutes(plan: PlanResult, picture: Path | None) -> None:
    """Draw the chance of a working PC against minutes, where a figure was asked for. Raises as `draw` does."""
    if picture is None:
        return
    if not plan.visits:
        click.echo("No figure was drawn: the plan has no visit.", err=True)
        return
    _save(lambda: draw_plan(plan, picture), picture)
