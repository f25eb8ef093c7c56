"""Drawing a disk map to a file that a command was asked for."""

from collections.abc import Sequence
from pathlib import Path

import click

from mending.disk import DiskMap
from mending.model import InputError
from mending.report import check_figure_name, draw_disk


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
    try:
        draw_disk(maps, path)
    except OSError as error:
        raise InputError(f"{path} cannot be written: {error.strerror}.") from error
