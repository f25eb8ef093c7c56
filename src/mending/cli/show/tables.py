"""A table without lines that fits its terminal.

How it gives way where the terminal is narrow, in this order:

1. the one column of sentences wraps at words, down to a width that can still be read;
2. the columns that say least go away, the least important first;
3. the other columns of words wrap at words; numbers never do.

Only a single word that is longer than everything that is left is cut, since it fits nowhere.
"""

from collections.abc import Sequence

from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, RenderResult
from rich.table import Table
from rich.text import Text

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
