"""A table without lines that fits its terminal.

How it gives way where the terminal is narrow, in this order:

1. the one column of sentences wraps at words, down to a width that can still be read;
2. the columns that say least go away, the least important first;
3. the other columns of words wrap at words; numbers never do.

Only a single word that is longer than everything that is left is cut, since it fits nowhere.
"""

import os
from collections.abc import Callable, Iterable, Sequence
from pathlib import PurePath
from typing import TypeVar

import click
import msgspec
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.padding import Padding
from rich.table import Table
from rich.text import Text
from rich.theme import Theme

from mending.cli.config import load_config
from mending.cli.output import put
from mending.model import InputError, clean_text, format_json, plain_size

_GAP = 2
"""Blanks between columns."""
_READABLE = 24
"""Characters down to which sentences wrap before another column is given up for them."""


class FittedTable:
    """A table of texts that chooses its columns and their widths when it is drawn.

    Args:
        cells: rows of the same length.
        heads: one for each column, or none at all.
        wide: the column of sentences.
        right: columns of numbers.
        drop: columns that may go away, the least important first.
    """

    def __init__(
        self,
        cells: Sequence[Sequence[Text]],
        heads: Sequence[str],
        wide: int,
        right: Sequence[int],
        drop: Sequence[int],
    ) -> None:
        self._cells, self._heads = cells, heads
        self._count = len(cells[0]) if cells else len(heads)
        self._wide = wide % self._count if self._count else 0
        self._right, self._drop = right, drop
        self._indent = 0

    def indented(self) -> "FittedTable":
        """The same table, as far from the edge as its columns are from each other."""
        table = FittedTable(self._cells, self._heads, self._wide, self._right, self._drop)
        table._indent = _GAP
        return table

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        """Draw it for the width that there is."""
        if not self._count:
            return
        columns = range(self._count)
        natural = {column: self._longest(column, whole=True) for column in columns}
        least = {
            column: natural[column] if column in self._right else self._longest(column, whole=False)
            for column in columns
        }
        room = max(options.max_width - self._indent, 1)
        kept = self._kept(natural, least, room)
        widths = self._widths(kept, natural, least, room)
        table = Table(
            box=None,
            show_header=bool(self._heads),
            header_style="soft",
            pad_edge=bool(self._indent),
            padding=(0, 0, 0, _GAP) if self._indent else (0, _GAP, 0, 0),
        )
        for column in kept:
            table.add_column(
                self._heads[column] if self._heads else "",
                width=widths[column],
                overflow="fold",
                justify="right" if column in self._right else "left",
            )
        for row in self._cells:
            table.add_row(*(row[column] for column in kept))
        yield table

    def _longest(self, column: int, *, whole: bool) -> int:
        """Width of the longest line of a column, or of its longest word."""
        texts = [row[column].plain for row in self._cells]
        texts += [self._heads[column]] if self._heads else []
        parts = [part for each in texts for part in (each.splitlines() if whole else each.split())]
        return max((cell_len(part) for part in parts), default=0)

    def _kept(self, natural: dict[int, int], least: dict[int, int], width: int) -> list[int]:
        kept = list(range(self._count))
        for column in self._drop:
            sentences = min(natural[self._wide], max(least[self._wide], _READABLE))
            needed = {**natural, self._wide: sentences}
            if _total(needed, kept) <= width:
                break
            kept.remove(column)
        return kept

    def _widths(
        self, kept: list[int], natural: dict[int, int], least: dict[int, int], width: int
    ) -> dict[int, int]:
        widths = dict(natural)
        others = sorted((each for each in kept if each != self._wide), key=lambda at: -natural[at])
        readable = min(natural[self._wide], _READABLE)
        floors = [(self._wide, readable), *((column, least[column]) for column in others)]
        floors += [(self._wide, 1), *((column, 1) for column in others)]
        for column, floor in floors:
            excess = _total(widths, kept) - width
            if excess > 0 and column in kept:
                widths[column] -= max(min(excess, widths[column] - floor), 0)
        return widths


def _total(widths: dict[int, int], kept: list[int]) -> int:
    return sum(widths[column] for column in kept) + _GAP * max(len(kept) - 1, 0)


# What the styles of the output look like, by the ground they stand on.
#
# Styles are called by what they mean. Unless somebody says what the ground is, colours are taken
# whose contrast is more than 4 to 1 with white and with black (relative luminance near 0.18, as the
# Web Content Accessibility Guidelines 2.2 define it); nothing is told by colour alone.


BOTH, NONE = "both", "none"
_FEW = "standard"
"""What the console calls sixteen colours, which every terminal paints in its own way."""
STYLES = {
    BOTH: {
        "good": "color(28)",
        "bad": "bold color(161)",
        "doubt": "color(164)",
        "warning": "color(130)",
        "soft": "color(243)",
    },
    "dark": {
        "good": "color(114)",
        "bad": "bold color(210)",
        "doubt": "color(183)",
        "warning": "color(221)",
        "soft": "color(250)",
    },
    "light": {
        "good": "color(22)",
        "bad": "bold color(124)",
        "doubt": "color(90)",
        "warning": "color(94)",
        "soft": "color(240)",
    },
    NONE: {"good": "", "bad": "bold", "doubt": "", "warning": "", "soft": ""},
}
"""By ground what each style looks like."""
OF_SIXTEEN = {"good": "", "bad": "bold red", "doubt": "magenta", "warning": "magenta", "soft": ""}
"""Red and magenta can be read on black and on white on all terminals that were tried; green and
yellow cannot."""


def theme(colours: str | None) -> Theme:
    """The styles as the settings want them; a fault in the settings is not told here.

    Args:
        colours: the kind of colours that the console has.
    """
    try:
        ground = load_config().colours
    except InputError:
        ground = BOTH
    return Theme(OF_SIXTEEN if colours == _FEW and ground != NONE else STYLES[ground])


# The terminal: colour only on one, nothing wider than it, control characters of evidence never
# reach it.


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
