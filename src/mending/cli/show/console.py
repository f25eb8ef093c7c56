"""The terminal: colour only on one, nothing wider than it, control characters of evidence never
reach it.
"""

import os
from collections.abc import Callable, Iterable
from pathlib import PurePath
from typing import TypeVar

import click
import msgspec
from rich.console import Console, Group, RenderableType
from rich.padding import Padding
from rich.text import Text

from mending.cli.echo import put
from mending.cli.show.colours import theme
from mending.cli.show.tables import FittedTable
from mending.model import clean_text, format_json, plain_size

R = TypeVar("R", bound=msgspec.Struct)


def emit(result: R, as_json: bool, view: Callable[[R], RenderableType]) -> None:
    """Print a result as a JSON document or as a person reads it."""
    if as_json:
        put(format_json(result))
    else:
        say(view(result))


def say(*what: RenderableType) -> None:
    """Print something for people. What goes into a pipe has no blanks at the ends of its lines."""
    console = _console()
    console.push_theme(theme(console.color_system))
    for part in what:
        if console.is_terminal:
            console.print(part)
            continue
        with console.capture() as captured:
            console.print(part)
        for line in captured.get().splitlines():
            click.echo(line.rstrip(" "))


def _console() -> Console:
    """Standard output: plain where the person wants no colour, styled where colour is forced."""
    context = click.get_current_context(silent=True)
    forced = context is not None and bool(context.color)
    plain = bool(os.environ.get("NO_COLOR")) and not forced
    return Console(
        highlight=False,
        markup=False,
        emoji=False,
        color_system=None if plain else "auto",
        force_terminal=True if forced else None,
    )


def text(words: object, style: str = "") -> Text:
    """Words that may come from evidence, made harmless."""
    return Text(clean_text(str(words), 2000), style=style)


def title(words: str) -> Text:
    """A line that opens a part of the output."""
    return text(words, "bold")


def rows(
    cells: Iterable[tuple[object, ...]],
    heads: tuple[str, ...] = (),
    wide: int = -1,
    right: tuple[int, ...] = (),
    drop: tuple[int, ...] = (),
) -> FittedTable:
    """A table without lines.

    Args:
        wide: number of the column of sentences, which wraps first.
        right: columns of numbers.
        drop: columns that a narrow terminal can do without, the least important first.
    """
    listed = [
        tuple(cell if isinstance(cell, Text) else text(cell) for cell in row) for row in cells
    ]
    return FittedTable(listed, heads, wide, right, drop)


def indented(*what: RenderableType) -> RenderableType:
    """Something two columns further in."""
    if len(what) == 1 and isinstance(what[0], FittedTable):
        return what[0].indented()
    return Padding(Group(*what), (0, 0, 0, 2))


size = plain_size


def named_target(path: str, named: str) -> str:
    """A target as the person named it, and the file behind a case."""
    return named if named == path else f"{named}: {PurePath(path).name}"


def minute(at: str) -> str:
    """A time in RFC 3339, UTC, as people write it; the zone is said once elsewhere."""
    return at[:16].replace("T", " ")


def plain_id(name: str) -> str:
    """A kebab-case id as words."""
    return name.replace("-", " ")
