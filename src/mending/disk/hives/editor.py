"""A hive changed in memory: values and keys set, added, removed; all else stays to the last bit.

Values are changed where they are if they fit; what is new goes into free cells, or into a further
bin. When keys were last written stays as it was: only their own system may tell that. The changed
hive counts as written to its end, later than anything that its logs hold, so that no log is laid
over it. Source: the public registry file format specification.
"""

import struct

from mending.disk.hives.cell_space import CellSpace
from mending.disk.hives.hive import Hive, Key, walk
from mending.disk.hives.key_lists import KeyLists
from mending.disk.hives.new_cells import (
    ROOT_FLAGS,
    big_cell,
    folded,
    key_cell,
    security_cell,
    value_cell,
)
from mending.formats.nt import hive_base
from mending.formats.nt.hive_base import BASE_BYTES, BIN_MAGIC, MAGIC, NOTHING
from mending.formats.nt.hive_cells import BIG, BIG_FROM, DamagedHiveError, ValueCell
from mending.model import InputError

_RESIDENT = 0x8000_0000
_SUBKEYS, _SECURITY, _VALUES, _LARGEST = 20, 44, 36, 52
"""Places in the body of a key: numbers of subkeys, its rights, number of values, and four hints of
the longest name and data below it.
"""
_REFERENCES, _AFTER, _BEFORE = 12, 4, 8
_VALUE_LENGTH = 4
_BIN_HEAD, _FIRST_BIN = 32, 4096
_MOST_DEPTH = 512
_SPARE = bytes(4)
"""Behind each piece of long data, as in real hives; other readers count on it."""
_NUMBERS = ("first", "second")


class HiveEditor:
    """One hive that is changed. Paths are keys divided by backslashes; names in any case.

    Args:
        data: the whole file, its logs laid in.

    Attributes:
        touched: what may be otherwise than before, as `changed_places` tells it.

    Raises:
        InputError: it is shorter than a base block.
    """

    def __init__(self, data: bytes) -> None:
        self.touched: set[tuple[str, str | None]] = set()
        self._space = CellSpace(data)
        self._seen: tuple[bytearray, Hive] | None = None
        self._lists = KeyLists(self._space, lambda: self.hive)

    @property
    def hive(self) -> Hive:
        """The hive as it is now."""
        space = self._space
        if self._seen is None or self._seen[0] is not space.data:
            self._seen = space.data, Hive(space.data)
        return self._seen[1]

    def set_value(self, path: str, name: str, kind: int, data: bytes) -> None:
        """A value of a key that is there; it is made where it is not.

        Raises:
            InputError: no such key. DamagedHiveError.
        """
        key = self._key(path)
        found = self._found(key, name)
        if found is not None and (found[1].type, self.hive.data(found[1])) == (kind, data):
            return
        self._touch(path, name)
        if found is None:
            self._add_value(key, name, kind, data)
        else:
            self._change_value(*found, kind, data)
        self._raise_hint(key.at, 2, 2 * len(name))
        self._raise_hint(key.at, 3, len(data))

    def remove_value(self, path: str, name: str) -> None:
        """Take a value out. Raises InputError where it is not there."""
        key = self._key(path)
        found = self._found(key, name)
        if found is None:
            raise InputError(f"The key {path} has no value {name!r}.")
        self._touch(path, found[1].name)
        rows = [at for at in key.value_cells() if at != found[0]]
        self._drop_value(*found)
        self._list_values(key, rows)

    def add_key(self, path: str) -> None:
        """A key, and all on the way that are not there."""
        parts = [part for part in path.split("\\") if part]
        for depth in range(1, len(parts) + 1):
            if self.hive.find("\\".join(parts[:depth])) is None:
                self._touch("\\".join(parts[:depth]), None)
                self._add_key(self._key("\\".join(parts[: depth - 1])), parts[depth - 1])

    def remove_key(self, path: str) -> None:
        """Take a key out with all that is in it. Raises InputError where it is not there."""
        key = self._key(path)
        above = path.rstrip("\\").rpartition("\\")[0]
        if key.at == self.hive.root.at:
            raise InputError("The root of a hive cannot be taken out.")
        for below, inside in walk(key):
            self._touch(f"{path}{below}", None)
            for value in inside.values():
                self._touch(f"{path}{below}", value.name)
        self._lists.remove(self._key(above), key.at)
        self._drop_key(key, 0)

    def finished(self, above: int = 0) -> bytes:
        """The whole file, written to its end.

        Args:
            above: number of a write that must be older; that of its logs.
        """
        data = bytearray(self._space.data)
        base = hive_base.BASE.rows
        numbers = (int.from_bytes(data[base[name].offset :][:4], "little") for name in _NUMBERS)
        number = (max(*numbers, above) + 1) & 0xFFFF_FFFF
        for name in _NUMBERS:
            struct.pack_into("<I", data, base[name].offset, number)
        total = hive_base.checksum(bytes(data[: hive_base.HEAD_BYTES]))
        struct.pack_into("<I", data, base["checksum"].offset, total)
        return bytes(data)

    def _touch(self, path: str, name: str | None) -> None:
        place = "".join(f"\\{part}" for part in path.split("\\") if part)
        self.touched.add((place.casefold(), None if name is None else name.casefold()))

    def _key(self, path: str) -> Key:
        key = self.hive.find(path)
        if key is None:
            raise InputError(f"The hive has no key {path}.")
        return key

    def _found(self, key: Key, name: str) -> tuple[int, ValueCell] | None:
        wanted = folded(name)
        pairs = zip(key.value_cells(), key.values(), strict=True)
        return next((pair for pair in pairs if folded(pair[1].name) == wanted), None)

    def _add_value(self, key: Key, name: str, kind: int, data: bytes) -> None:
        rows = key.value_cells()
        length, place = self._stored(data)
        self._list_values(key, [*rows, self._space.take(value_cell(name, kind, length, place))])

    def _list_values(self, key: Key, rows: list[int]) -> None:
        listed, body = key.cell.value_list, struct.pack(f"<{len(rows)}I", *rows)
        if not rows:
            self._space.give(listed)
            listed = NOTHING
        elif not key.cell.values or listed == NOTHING:
            listed = self._space.take(body)
        else:
            listed = self._space.put(listed, body)
        self._space.patch(key.at, _VALUES, struct.pack("<II", len(rows), listed))

    def _change_value(self, at: int, old: ValueCell, kind: int, data: bytes) -> None:
        longest = max(old.length, len(data))
        plain = old.inline is None and old.length and not self._is_big(longest)
        if plain and 4 < len(data) <= self._space.capacity(old.data_cell):
            self._space.patch(old.data_cell, 0, data)
            length, place = len(data), old.data_cell
        else:
            self._drop_data(old)
            length, place = self._stored(data)
        self._space.patch(at, _VALUE_LENGTH, struct.pack("<III", length, place, kind))

    def _drop_value(self, at: int, value: ValueCell) -> None:
        self._drop_data(value)
        self._space.give(at)

    def _is_big(self, length: int) -> bool:
        minor = int.from_bytes(self._space.data[24:28], "little")
        return length > BIG_FROM and minor > 3

    def _stored(self, data: bytes) -> tuple[int, int]:
        """Where data are put: the two fields of their value."""
        if len(data) <= 4:
            return len(data) | _RESIDENT, int.from_bytes(data.ljust(4, b"\0"), "little")
        if not self._is_big(len(data)):
            return len(data), self._space.take(data)
        pieces = [data[at : at + BIG_FROM] for at in range(0, len(data), BIG_FROM)]
        places = [self._space.take(piece + _SPARE) for piece in pieces]
        listed = self._space.take(struct.pack(f"<{len(places)}I", *places))
        return len(data), self._space.take(big_cell(len(places), listed))

    def _drop_data(self, value: ValueCell) -> None:
        if value.inline is not None or not value.length:
            return
        if self._is_big(value.length):
            body = self._body(value.data_cell)
            if body[:2] == BIG:
                count, listed = struct.unpack_from("<HI", body, 2)
                for at in struct.unpack_from(f"<{count}I", self._body(listed)):
                    self._space.give(at)
                self._space.give(listed)
        self._space.give(value.data_cell)

    def _body(self, at: int) -> bytes:
        place = BASE_BYTES + at + 4
        return bytes(self._space.data[place : place + self._space.capacity(at)])

    def _add_key(self, parent: Key, name: str) -> None:
        (security,) = struct.unpack_from("<I", self._body(parent.at), _SECURITY)
        at = self._space.take(key_cell(name, parent.at, security, parent.cell.written))
        self._count_references(security, 1)
        self._lists.add(parent, at, name)
        self._raise_hint(parent.at, 0, 2 * len(name))

    def _drop_key(self, key: Key, depth: int) -> None:
        """A key that no list names any more; `key` was read before anything was given back."""
        if depth > _MOST_DEPTH:
            raise DamagedHiveError("keys are nested without end.")
        inside = list(key.children())
        values = list(zip(key.value_cells(), key.values(), strict=True))
        (security,) = struct.unpack_from("<I", self._body(key.at), _SECURITY)
        lists = self._lists.cells_of(key)
        for child in inside:
            self._drop_key(child, depth + 1)
        for at, value in values:
            self._drop_value(at, value)
        for at in lists:
            self._space.give(at)
        if values:
            self._space.give(key.cell.value_list)
        if key.cell.class_cell != NOTHING and key.cell.class_bytes:
            self._space.give(key.cell.class_cell)
        self._count_references(security, -1)
        self._space.give(key.at)

    def _count_references(self, security: int, more: int) -> None:
        """One more or less that uses these rights; the last one takes them out of their ring."""
        body = self._body(security)
        after, before, count = struct.unpack_from("<III", body, _AFTER)
        self._space.patch(security, _REFERENCES, struct.pack("<I", max(count + more, 0)))
        if count + more > 0 or after == security:
            return
        self._space.patch(before, _AFTER, struct.pack("<I", after))
        self._space.patch(after, _BEFORE, struct.pack("<I", before))
        self._space.give(security)

    def _raise_hint(self, at: int, number: int, value: int) -> None:
        """The longest name or data below a key. Above the first lie flags of its system's."""
        place = _LARGEST + 4 * number
        (kept,) = struct.unpack_from("<I", self._body(at), place)
        mask = 0xFFFF if not number else 0xFFFF_FFFF
        if value > kept & mask:
            self._space.patch(at, place, struct.pack("<I", kept & ~mask | value & mask))


def new_hive(written: int, root: str) -> bytes:
    """A hive with nothing but a root key, which the system and its administrators may change.

    Args:
        written: when, in 100 ns since 1601. root: name of the root key.
    """
    security = -(-(4 + len(key_cell(root, 0, 0, 0))) // 8) * 8 + _BIN_HEAD
    cells = [key_cell(root, 0, security, written, ROOT_FLAGS), security_cell(security)]
    body = bytearray(_BIN_HEAD)
    for cell in cells:
        size = -(-(len(cell) + 4) // 8) * 8
        body += struct.pack("<i", -size) + cell.ljust(size - 4, b"\0")
    left = _FIRST_BIN - len(body)
    body += struct.pack("<i", left) + bytes(left - 4)
    body[:_BIN_HEAD] = struct.pack("<4sII8xQI", BIN_MAGIC, 0, _FIRST_BIN, written, 0)
    numbers = struct.pack("<IIQIIIIIII", 0, 0, written, 1, 5, 0, 1, _BIN_HEAD, _FIRST_BIN, 1)
    base = (MAGIC + numbers).ljust(BASE_BYTES, b"\0")
    return HiveEditor(base + bytes(body)).finished()
