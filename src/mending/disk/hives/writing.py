"""A hive changed in memory: values and keys set, added, removed; all else stays to the last bit.

Values are changed where they are if they fit; what is new goes into free cells, or into a further
bin. When keys were last written stays as it was: only their own system may tell that. The changed
hive counts as written to its end, later than anything that its logs hold, so that no log is laid
over it. Source: the public registry file format specification.
"""

import contextlib
import struct
from bisect import bisect_left
from collections.abc import Callable, Iterator

from mending.disk.hives.reading import Hive, Key, walk
from mending.formats import hives
from mending.formats.hives import (
    BASE_BYTES,
    BIG,
    BIG_FROM,
    BIN_MAGIC,
    KEY,
    LIST_OF_LISTS,
    MAGIC,
    NOTHING,
    PLAIN_LISTS,
    SECURITY,
    VALUE,
    DamagedHiveError,
    ValueCell,
    check_bins,
    read_list,
)
from mending.model import InputError
from mending.model.limits import HIVE_BYTES

# The room for cells in a hive in memory: taken, given back, made by a further bin.
#
# A bin is filled by its cells to the end. A cell begins with its length: below zero where it is in
# use. What is given back becomes one with the free cells beside it. Source: the public registry
# file format specification, sections "Hive bin" and "Cell".


_BIN_HEAD, _BIN_STEP = 32, 4096
_LENGTH_AT = 40
"""Of all bins, in the base block."""


class CellSpace:
    """The cells of one hive. Places count from the first bin.

    Args:
        data: the whole file.

    Attributes:
        data: the same as it is now; another object once a bin was added.
    """

    def __init__(self, data: bytes) -> None:
        self.data = bytearray(data)
        self.length = int.from_bytes(data[_LENGTH_AT : _LENGTH_AT + 4], "little")
        self._free: dict[int, int] | None = None

    def capacity(self, at: int) -> int:
        """How many bytes fit into a cell in use."""
        (length,) = struct.unpack_from("<i", self.data, BASE_BYTES + at)
        return -int(length) - 4

    def patch(self, at: int, into: int, raw: bytes) -> None:
        """Bytes in the body of a cell."""
        place = BASE_BYTES + at + 4 + into
        self.data[place : place + len(raw)] = raw

    def take(self, body: bytes) -> int:
        """A cell with this body; the smallest free one that it fits into.

        Raises:
            DamagedHiveError: the bins do not hang together. InputError: there is no room.
        """
        size = -(-(len(body) + 4) // 8) * 8
        free = self._known_free()
        fitting = [at for at, length in free.items() if length >= size]
        at = min(fitting, key=lambda each: (free[each], each)) if fitting else self._add_bin(size)
        left = free.pop(at) - size
        if left:
            self._mark(at + size, left)
            free[at + size] = left
        self._mark(at, -size)
        self.patch(at, 0, body.ljust(size - 4, b"\0"))
        return at

    def put(self, at: int, body: bytes) -> int:
        """Another body for a cell: where it is if it fits, else in a new one; says where."""
        if len(body) <= self.capacity(at):
            self.patch(at, 0, body)
            return at
        self.give(at)
        return self.take(body + bytes(len(body) // 4))  # lists that grow once grow again

    def give(self, at: int) -> None:
        """A cell that is not used any more.

        Raises:
            DamagedHiveError: it is free already: two structures share it.
        """
        free = self._known_free()
        size = self.capacity(at) + 4
        if size < 8 or at in free:
            raise DamagedHiveError(f"the cell at {at} is used twice.")
        size += free.pop(at + size, 0)
        before = next((start for start, length in free.items() if start + length == at), None)
        if before is not None:
            size += free[before]
            at = before
        self._mark(at, size)
        free[at] = size

    def _known_free(self) -> dict[int, int]:
        """The free cells, place and length; told once, when room is first needed."""
        if self._free is None:
            bins = memoryview(self.data)[BASE_BYTES:]
            problems = check_bins(bins, self.length)
            bins.release()
            if problems:
                raise DamagedHiveError(
                    f"its bins are damaged at offset {problems[0].offset} ({problems[0].code})."
                )
            self._free = dict(self._walk())
        return self._free

    def _walk(self) -> list[tuple[int, int]]:
        found, start = [], 0
        while start < self.length:
            (size,) = struct.unpack_from("<I", self.data, BASE_BYTES + start + 8)
            at = start + _BIN_HEAD
            while at < start + size:
                (length,) = struct.unpack_from("<i", self.data, BASE_BYTES + at)
                if length > 0:
                    found.append((at, length))
                at += abs(length)
            start += size
        return found

    def _add_bin(self, size: int) -> int:
        """A bin behind the others, of which one free cell takes up all; says where that is."""
        start, length = self.length, -(-(size + _BIN_HEAD) // _BIN_STEP) * _BIN_STEP
        if BASE_BYTES + start + length > HIVE_BYTES:
            raise InputError("The hive has no room for that.")
        head = struct.pack("<4sII20x", BIN_MAGIC, start, length)
        place, known = BASE_BYTES + start, self._known_free()
        self.data = bytearray(self.data)  # whoever looks at the bytes keeps those from before
        self.data[place : place + length] = head.ljust(length, b"\0")
        self.length += length
        self.data[_LENGTH_AT : _LENGTH_AT + 4] = self.length.to_bytes(4, "little")
        self._mark(start + _BIN_HEAD, length - _BIN_HEAD)
        known[start + _BIN_HEAD] = length - _BIN_HEAD
        return start + _BIN_HEAD

    def _mark(self, at: int, length: int) -> None:
        struct.pack_into("<i", self.data, BASE_BYTES + at, length)


# Cells of a hive as its system writes them: keys, values, lists of keys, who may do what.
#
# Source: the public registry file format specification, sections "Key node", "Key value", "Index
# leaf", "Fast leaf", "Hash leaf", "Key security" and "Big data"; of the security descriptor, its
# published description ("self-relative form").


ROOT_FLAGS, PLAIN_NAME = 0x2C, 0x20
"""Of a root key: it may not be removed, holds all others, and its name is of plain letters."""
_VALUE_PLAIN = 1
_LONGEST_KEY, _LONGEST_VALUE = 255, 16_383
_HASHED, _HINTED = b"lh", b"lf"
_SELF_RELATIVE, _HAS_RIGHTS = 0x8000, 0x0004
_ALL_RIGHTS, _HANDED_DOWN = 0x000F_003F, 0x02
_SYSTEM = bytes.fromhex("010100000000000512000000")
_ADMINISTRATORS = bytes.fromhex("01020000000000052000000020020000")
"""Identifiers S-1-5-18 and S-1-5-32-544: the system, and whoever administers it."""


def folded(name: str) -> str:
    """A name as its system compares names: letter by letter as capitals."""
    return "".join(big if len(big := sign.upper()) == 1 else sign for sign in name)


def key_cell(name: str, parent: int, security: int, written: int, flags: int = 0) -> bytes:
    """A key without subkeys and values.

    Raises:
        InputError: no name that a key can have.
    """
    if not 0 < len(name) <= _LONGEST_KEY or "\\" in name:
        raise InputError(f"{name!r} cannot be the name of a key.")
    raw, plain = _name(name)
    head = struct.pack("<2sHQIII", KEY, flags | (PLAIN_NAME if plain else 0), written, 0, parent, 0)
    lists = struct.pack("<IIIIIII", 0, NOTHING, NOTHING, 0, NOTHING, security, NOTHING)
    return head + lists + bytes(20) + struct.pack("<HH", len(raw), 0) + raw


def value_cell(name: str, kind: int, length: int, data: int) -> bytes:
    """A value. Args: length, data: as their fields hold them.

    Raises:
        InputError: no name that a value can have.
    """
    if len(name) > _LONGEST_VALUE:
        raise InputError(f"{name[:40]!r}... is too long for the name of a value.")
    raw, plain = _name(name)
    flags = _VALUE_PLAIN if plain else 0
    return struct.pack("<2sHIIIHH", VALUE, len(raw), length, data, kind, flags, 0) + raw


def big_cell(count: int, listed: int) -> bytes:
    """Data in pieces. Args: listed: the cell that lists them."""
    return struct.pack("<2sHI4x", BIG, count, listed)


def list_mark(minor: int) -> bytes:
    """The kind of list that a hive of this version has."""
    return _HASHED if minor >= 5 else _HINTED if minor >= 3 else b"li"


def list_row(mark: bytes, cell: int, name: str) -> bytes:
    """A row of a list of keys."""
    if mark == _HASHED:
        return struct.pack("<II", cell, _hash(name))
    if mark == _HINTED:
        first = name[:4].encode("latin-1", "ignore") if name[:4].isascii() else b""
        return struct.pack("<I", cell) + first.ljust(4, b"\0")
    return struct.pack("<I", cell)


def list_cell(mark: bytes, rows: list[bytes]) -> bytes:
    """A list of keys, or of lists."""
    return mark + struct.pack("<H", len(rows)) + b"".join(rows)


def list_rows(cell: bytes) -> tuple[bytes, list[bytes]]:
    """The mark and the rows of a list that was read before."""
    mark = cell[:2]
    width = 4 if mark == LIST_OF_LISTS else PLAIN_LISTS[mark]
    (count,) = struct.unpack_from("<H", cell, 2)
    return mark, [cell[4 + width * at : 4 + width * (at + 1)] for at in range(count)]


def security_cell(place: int) -> bytes:
    """Full rights for the system and its administrators, and for nobody else.

    Args:
        place: of the cell itself, the only one in its ring.
    """
    rights = b"".join(
        struct.pack("<BBHI", 0, _HANDED_DOWN, 8 + len(who), _ALL_RIGHTS) + who
        for who in (_SYSTEM, _ADMINISTRATORS)
    )
    listed = struct.pack("<BBHHH", 2, 0, 8 + len(rights), 2, 0) + rights
    owner = 20 + len(listed)
    group = owner + len(_ADMINISTRATORS)
    flags = _SELF_RELATIVE | _HAS_RIGHTS
    head = struct.pack("<BBHIIII", 1, 0, flags, owner, group, 0, 20)
    whole = head + listed + _ADMINISTRATORS + _SYSTEM
    return struct.pack("<2sHIIII", SECURITY, 0, place, place, 1, len(whole)) + whole


def _name(name: str) -> tuple[bytes, bool]:
    """A name as bytes, and whether each letter takes one."""
    try:
        return name.encode("latin-1"), True
    except UnicodeEncodeError:
        return name.encode("utf-16-le", "replace"), False


def _hash(name: str) -> int:
    total = 0
    for sign in folded(name):
        total = (total * 37 + ord(sign)) & 0xFFFF_FFFF
    return total


# The lists by which a key names its subkeys: rows in the order of their names, one list or several
# below a list of lists.
#
# Source: the public registry file format specification, sections "Subkeys list" and "Index root".


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


_RESIDENT = 0x8000_0000
_SUBKEYS, _SECURITY, _VALUES, _LARGEST = 20, 44, 36, 52
"""Places in the body of a key: numbers of subkeys, its rights, number of values, and four hints of
the longest name and data below it.
"""
_REFERENCES, _AFTER, _BEFORE = 12, 4, 8
_VALUE_LENGTH = 4
_EDITOR_BIN_HEAD, _FIRST_BIN = 32, 4096
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
        base = hives.BASE.rows
        numbers = (int.from_bytes(data[base[name].offset :][:4], "little") for name in _NUMBERS)
        number = (max(*numbers, above) + 1) & 0xFFFF_FFFF
        for name in _NUMBERS:
            struct.pack_into("<I", data, base[name].offset, number)
        total = hives.checksum(bytes(data[: hives.HEAD_BYTES]))
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
    security = -(-(4 + len(key_cell(root, 0, 0, 0))) // 8) * 8 + _EDITOR_BIN_HEAD
    cells = [key_cell(root, 0, security, written, ROOT_FLAGS), security_cell(security)]
    body = bytearray(_EDITOR_BIN_HEAD)
    for cell in cells:
        size = -(-(len(cell) + 4) // 8) * 8
        body += struct.pack("<i", -size) + cell.ljust(size - 4, b"\0")
    left = _FIRST_BIN - len(body)
    body += struct.pack("<i", left) + bytes(left - 4)
    body[:_EDITOR_BIN_HEAD] = struct.pack("<4sII8xQI", BIN_MAGIC, 0, _FIRST_BIN, written, 0)
    numbers = struct.pack("<IIQIIIIIII", 0, 0, written, 1, 5, 0, 1, _EDITOR_BIN_HEAD, _FIRST_BIN, 1)
    base = (MAGIC + numbers).ljust(BASE_BYTES, b"\0")
    return HiveEditor(base + bytes(body)).finished()


# What is left of a hive that is damaged: keys found by their mark instead of from the root.
#
# Every cell in use lies on a multiple of 8 bytes, its length in front and, for a key, the mark `nk`
# behind that. So a key can be found though the base block, its bin or the keys above it are gone;
# what hangs below it is read as ever, and what is lost of it is an error and not an absence.


_MARK, _BIN_BYTES = b"nk", 40
"""The mark of a key; where in the base block the length of the bins stands."""


def remaining_keys(data: bytes) -> Iterator[Key]:
    """Every key whose own cell can be read, in the order of their places.

    Args:
        data: the whole file of a hive; nothing of its base block is believed.
    """
    bins = data[BASE_BYTES:]
    head = bytearray(new_hive(0, "R")[:BASE_BYTES])
    struct.pack_into("<I", head, _BIN_BYTES, len(bins))
    hive = Hive(bytes(head) + bins)
    at = bins.find(_MARK)
    while at >= 0:
        cell = at - 4
        key = None
        with contextlib.suppress(DamagedHiveError):  # two letters that are no key
            key = Key(hive, cell) if cell % 8 == 0 else None
        if key is not None:
            yield key
        at = bins.find(_MARK, at + 1)
