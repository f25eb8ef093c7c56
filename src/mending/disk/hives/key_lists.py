"""The lists by which a key names its subkeys: rows in the order of their names, one list or several
below a list of lists.

Source: the public registry file format specification, sections "Subkeys list" and "Index root".
"""

import struct
from bisect import bisect_left
from collections.abc import Callable

from mending.disk.hives.cell_space import CellSpace
from mending.disk.hives.hive import Hive, Key
from mending.disk.hives.new_cells import folded, list_cell, list_mark, list_row, list_rows
from mending.formats.nt.hive_base import NOTHING
from mending.formats.nt.hive_cells import LIST_OF_LISTS, DamagedHiveError, read_list

_COUNT_AT, _LIST_AT = 20, 28
_MOST_ROWS = 1012
"""Of one list, as its system writes them; longer ones are split."""


class KeyLists:
    """The lists of one hive that is changed.

    Args:
        space: its cells. hive: reads it as it is now.
    """

    def __init__(self, space: CellSpace, hive: Callable[[], Hive]) -> None:
        self._space, self._hive = space, hive

    def cells_of(self, key: Key) -> list[int]:
        """The cells of its lists."""
        listed = key.cell.subkey_list
        if not key.cell.subkeys or listed == NOTHING:
            return []
        above, leaves = self._opened(listed)
        return [*leaves, *([above] if above is not None else [])]

    def add(self, parent: Key, at: int, name: str) -> None:
        """A further subkey. Args: at: its cell."""
        if not parent.cell.subkeys or parent.cell.subkey_list == NOTHING:
            mark = list_mark(self._hive().base.minor)
            only = self._space.take(list_cell(mark, [list_row(mark, at, name)]))
            self._settle(parent, 1, only)
            return
        above, leaves = self._opened(parent.cell.subkey_list)
        names = [self._names(leaf) for leaf in leaves]
        fitting = (place for place, each in enumerate(names) if each[-1:] >= [folded(name)])
        number = next(fitting, len(leaves) - 1)
        mark, rows = self._rows(leaves[number])
        rows.insert(bisect_left(names[number], folded(name)), list_row(mark, at, name))
        half = len(rows) if len(rows) <= _MOST_ROWS else len(rows) // 2
        leaves[number] = self._space.put(leaves[number], list_cell(mark, rows[:half]))
        if rows[half:]:
            leaves.insert(number + 1, self._space.take(list_cell(mark, rows[half:])))
        self._settle(parent, parent.cell.subkeys + 1, self._joined(above, leaves))

    def remove(self, parent: Key, at: int) -> None:
        """A subkey less.

        Raises:
            DamagedHiveError: no list names it.
        """
        above, leaves = self._opened(parent.cell.subkey_list)
        for number, leaf in enumerate(leaves):
            mark, rows = self._rows(leaf)
            left = [row for row in rows if _cell_of(row) != at]
            if len(left) == len(rows):
                continue
            if left:
                leaves[number] = self._space.put(leaf, list_cell(mark, left))
            else:
                self._space.give(leaves.pop(number))
            self._settle(parent, parent.cell.subkeys - 1, self._joined(above, leaves))
            return
        raise DamagedHiveError(f"no list of {parent.name!r} names the key at {at}.")

    def _opened(self, listed: int) -> tuple[int | None, list[int]]:
        """The list of lists, where there is one, and the lists."""
        mark, rows = self._rows(listed)
        return (listed, list(map(_cell_of, rows))) if mark == LIST_OF_LISTS else (None, [listed])

    def _rows(self, at: int) -> tuple[bytes, list[bytes]]:
        cell = self._hive().cell(at)
        read_list(cell, at)  # it refuses what makes no sense
        return list_rows(cell)

    def _names(self, leaf: int) -> list[str]:
        hive = self._hive()
        return [folded(Key(hive, _cell_of(row)).name) for row in self._rows(leaf)[1]]

    def _joined(self, above: int | None, leaves: list[int]) -> int:
        """The list that names all leaves: the only one itself, or a list of lists."""
        if not leaves:
            if above is not None:
                self._space.give(above)
            return NOTHING
        if above is None and len(leaves) == 1:
            return leaves[0]
        body = list_cell(LIST_OF_LISTS, [struct.pack("<I", leaf) for leaf in leaves])
        return self._space.put(above, body) if above is not None else self._space.take(body)

    def _settle(self, parent: Key, count: int, listed: int) -> None:
        self._space.patch(parent.at, _COUNT_AT, struct.pack("<I", count))
        self._space.patch(parent.at, _LIST_AT, struct.pack("<I", listed))


def _cell_of(row: bytes) -> int:
    return int.from_bytes(row[:4], "little")
