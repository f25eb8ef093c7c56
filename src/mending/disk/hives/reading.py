"""A settings hive as a tree of keys and values. A lookup by path reads only what lies on its way.

Damage hides what lies behind it and is never taken for a key that is not there.
"""

import hashlib
import struct
from collections.abc import Iterator, Sequence

import msgspec

from mending.formats import hives
from mending.formats.hives import (
    BASE_BYTES,
    BIG,
    BIG_FROM,
    NOTHING,
    DamagedHiveError,
    HiveBase,
    KeyCell,
    ValueCell,
    check_bins,
    read,
    read_key,
    read_list,
    read_value,
)
from mending.model import InputError, Problem, Window
from mending.model.limits import HIVE_BYTES, HIVE_CELLS_BYTES

_MOST_DEPTH = 512
"""The system allows no deeper path."""
_MOST_LISTS, _MOST_ROWS = 65_536, 200_000
"""Of one key: lists of its subkeys, and its subkeys or values; real ones have thousands."""
_DATA_BYTES = 64 * 1024 * 1024
"""Longest data of one value; the system keeps some megabytes at most."""
_LEAST_KEY = 80
"""Bytes of a key in its cell."""
TEXT, EXPANDED_TEXT, NUMBER, TEXTS, LONG_NUMBER = 1, 2, 4, 7, 11


class Hive:
    """One opened hive.

    Args:
        data: the whole file.

    Raises:
        InputError: it is shorter than a base block.
    """

    def __init__(self, data: bytes | bytearray) -> None:
        reading = read(Window(bytes(data[:BASE_BYTES])))
        self.base: HiveBase = reading.record
        self._bins = memoryview(data)[BASE_BYTES:]
        self._length = min(self.base.bins, len(self._bins))
        self.problems: tuple[Problem, ...] = reading.problems

    @property
    def length(self) -> int:
        """Bytes of bins that are there."""
        return self._length

    def check(self) -> tuple[Problem, ...]:
        """What is wrong with the base block, the bins and, up to `HIVE_CELLS_BYTES`, their cells;
        keys are not walked.
        """
        cells = len(self._bins) <= HIVE_CELLS_BYTES
        return (*self.problems, *check_bins(self._bins, self.base.bins, cells=cells))

    @property
    def root(self) -> "Key":
        """The key that holds all others. Raises DamagedHiveError."""
        return Key(self, self.base.root)

    def find(self, path: str) -> "Key | None":
        """The key at a path, its names divided by backslashes, in any case; None where there is
        none.

        Raises:
            DamagedHiveError: damage on the way hides it.
        """
        found: Key | None = self.root
        for name in [part for part in path.split("\\") if part]:
            found = found.child(name) if found is not None else None
        return found

    def cell(self, at: int) -> bytes:
        """What a cell in use holds.

        Raises:
            DamagedHiveError: it is not inside the bins, or free.
        """
        if at % 8 or not 0 < at <= self._length - 8:
            raise DamagedHiveError(f"a cell at {at} does not lie in the bins.")
        (length,) = struct.unpack_from("<i", self._bins, at)
        if length > -8 or at - length > self._length:
            raise DamagedHiveError(f"the cell at {at} is free, or its length {length} is wrong.")
        return bytes(self._bins[at + 4 : at - length])

    def data(self, value: ValueCell) -> bytes:
        """The data of a value.

        Raises:
            DamagedHiveError
        """
        if value.inline is not None or not value.length:
            return value.inline or b""
        if value.length > _DATA_BYTES:
            raise DamagedHiveError(
                f"the value {value.name!r} is said to have {value.length} bytes."
            )
        cell = self.cell(value.data_cell)
        if value.length > BIG_FROM and cell[:2] == BIG and self.base.minor > 3:
            return self._pieces(cell, value)
        if len(cell) < value.length:
            raise DamagedHiveError(f"the data of the value {value.name!r} are cut off.")
        return cell[: value.length]

    def _pieces(self, cell: bytes, value: ValueCell) -> bytes:
        count, where = struct.unpack_from("<HI", cell, 2) if len(cell) >= 8 else (0, 0)
        cells = self.cell(where)
        if 4 * count > len(cells) or count * BIG_FROM < value.length:
            raise DamagedHiveError(f"the data of the value {value.name!r} are not all listed.")
        parts = (self.cell(at)[:BIG_FROM] for at in struct.unpack_from(f"<{count}I", cells))
        data = b"".join(parts)
        if len(data) < value.length:
            raise DamagedHiveError(f"the data of the value {value.name!r} are cut off.")
        return data[: value.length]


class Key:
    """A key of a hive.

    Raises:
        DamagedHiveError: its cell holds no key.
    """

    def __init__(self, hive: Hive, at: int) -> None:
        self._hive, self.at = hive, at
        self.cell: KeyCell = read_key(hive.cell(at), at)

    @property
    def most_keys(self) -> int:
        """How many keys its hive has room for."""
        return self._hive.length // _LEAST_KEY

    @property
    def name(self) -> str:
        """Its own name."""
        return self.cell.name

    def children(self) -> Iterator["Key"]:
        """Its subkeys, in the order of its lists.

        Raises:
            DamagedHiveError: a list or a key of it is damaged.
        """
        for at in self._places():
            yield Key(self._hive, at)

    def child(self, name: str) -> "Key | None":
        """A subkey by its name, in any case. Raises DamagedHiveError."""
        wanted = name.upper()
        return next((key for key in self.children() if key.name.upper() == wanted), None)

    def path(self, *names: str) -> "Key | None":
        """The key at the end of a chain of subkeys; None where one is not there. Raises
        DamagedHiveError.
        """
        found: Key | None = self
        for name in names:
            found = found.child(name) if found is not None else None
        return found

    def values(self) -> Iterator[ValueCell]:
        """Its values. Raises DamagedHiveError."""
        for at in self.value_cells():
            yield read_value(self._hive.cell(at), at)

    def value_cells(self) -> tuple[int, ...]:
        """The cells of its values, in their order. Raises DamagedHiveError."""
        if not self.cell.values or self.cell.value_list == NOTHING:
            return ()
        if self.cell.values > _MOST_ROWS:
            raise DamagedHiveError(
                f"the key {self.name!r} says that it has {self.cell.values} values."
            )
        rows = self._hive.cell(self.cell.value_list)
        if 4 * self.cell.values > len(rows):
            raise DamagedHiveError(f"the list of values of the key {self.name!r} is cut off.")
        return struct.unpack_from(f"<{self.cell.values}I", rows)

    def value(self, name: str) -> ValueCell | None:
        """A value by its name, in any case; the empty name is the key's own. Raises
        DamagedHiveError.
        """
        wanted = name.upper()
        return next((value for value in self.values() if value.name.upper() == wanted), None)

    def text(self, name: str) -> str | None:
        """A value that is text; None where there is none such. Raises DamagedHiveError."""
        value = self.value(name)
        if value is None or value.type not in {TEXT, EXPANDED_TEXT}:
            return None
        return self._hive.data(value).decode("utf-16-le", "replace").partition("\0")[0]

    def texts(self, name: str) -> tuple[str, ...] | None:
        """A value that is a list of texts; None where there is none. Raises DamagedHiveError."""
        value = self.value(name)
        if value is None or value.type != TEXTS:
            return None
        parts = self._hive.data(value).decode("utf-16-le", "replace").split("\0")
        return tuple(part for part in parts if part)

    def number(self, name: str) -> int | None:
        """A value that is a number; None where there is none. Raises DamagedHiveError."""
        value = self.value(name)
        if value is None or value.type not in {NUMBER, LONG_NUMBER}:
            return None
        return int.from_bytes(self._hive.data(value), "little")

    def data(self, name: str) -> bytes | None:
        """The bytes of a value of any type; None where there is none. Raises DamagedHiveError."""
        value = self.value(name)
        return None if value is None else self._hive.data(value)

    def class_name(self) -> str:
        """The text that a key may have beside its values. Raises DamagedHiveError."""
        if self.cell.class_cell == NOTHING or not self.cell.class_bytes:
            return ""
        raw = self._hive.cell(self.cell.class_cell)[: self.cell.class_bytes]
        return raw.decode("utf-16-le", "replace")

    def _places(self) -> Iterator[int]:
        """The cells of its subkeys: a list, or a list of lists, in which no list comes twice."""
        if not self.cell.subkeys or self.cell.subkey_list == NOTHING:
            return
        waiting, seen, rows = [self.cell.subkey_list], set[int](), 0
        while waiting:
            at = waiting.pop()
            if at in seen or len(seen) > _MOST_LISTS:
                raise DamagedHiveError(f"the lists of the key {self.name!r} go in a circle.")
            seen.add(at)
            is_of_lists, cells = read_list(self._hive.cell(at), at)
            rows += len(cells)
            if rows > _MOST_ROWS:
                raise DamagedHiveError(f"the key {self.name!r} has more than {_MOST_ROWS} subkeys.")
            if is_of_lists:
                waiting += reversed(cells)
            else:
                yield from cells


def walk(key: Key) -> Iterator[tuple[str, Key]]:
    """All keys with their paths, each before those in it.

    Raises:
        DamagedHiveError: damage, or a tree that is deeper than the system allows.
    """
    waiting, left = [("", key, 0)], key.most_keys
    while waiting:
        path, found, depth = waiting.pop()
        yield path, found
        left -= 1
        if left < 0:
            raise DamagedHiveError("its lists name more keys than it has room for.")
        if depth > _MOST_DEPTH:
            raise DamagedHiveError(f"keys below {path!r} are nested without end.")
        inside = [(f"{path}\\{child.name}", child, depth + 1) for child in found.children()]
        waiting += reversed(inside)


# A hive as the kernel would see it: with what its logs hold of writes that were cut off. All in
# memory; nothing is written.


_FATAL = {"hive-magic", "hive-checksum"}
"""A log whose head is damaged like this is not used."""


class Replayed(msgspec.Struct, frozen=True):
    """A hive after its logs.

    Attributes:
        data: the whole file.
        applied: how many writes were taken from logs.
        needed: whether the hive itself says that a write was cut off, or its base block is damaged.
        problems: why logs, or parts of them, were not used.
    """

    data: bytes
    applied: int
    needed: bool
    problems: tuple[Problem, ...] = ()

    @property
    def is_whole(self) -> bool:
        """Whether nothing is missing any more: no write was cut off, or logs had it."""
        return not self.needed or self.applied > 0


def replayed(hive: bytes, logs: Sequence[bytes]) -> Replayed:
    """A hive with the writes of its logs that came after its last finished one.

    Args:
        hive: the whole file. logs: those beside it, in any order.

    Raises:
        InputError: the hive is shorter than a base block.
    """
    reading = hives.read(Window(hive[:BASE_BYTES]))
    base = reading.record
    needed = not base.is_finished or reading.has("hive-checksum") or reading.has("hive-magic")
    if not needed:
        return Replayed(hive, 0, False)
    problems: list[Problem] = []
    sound = sorted(_sound_logs(logs, problems), key=lambda log: log[0].second)
    # where the base block itself is damaged, nothing tells how far the hive had got
    got = 0 if reading.has("hive-checksum") or reading.has("hive-magic") else base.second
    data, applied, last = bytearray(hive), 0, None
    for head, changes in sound:
        if head.second < got:
            found = f"log of write {head.second}"
            problems.append(Problem("log-older", 8, 4, found, f"{got} or later"))
            continue
        for change in changes:
            number = head.second if change.sequence is None else change.sequence
            if number < got or (last is not None and number <= last):
                continue
            if last is not None and change.sequence is not None and number != last + 1:
                break
            if _put(data, change):
                last, applied = number, applied + 1
                _settle(data, head, change, number)
    return Replayed(bytes(data), applied, True, tuple(problems))


def newest_of(logs: Sequence[bytes]) -> int:
    """The number of the last write that logs tell of, whether it can be used or not."""
    newest = 0
    for head, changes in _sound_logs(logs, []):
        numbers = [change.sequence or 0 for change in changes]
        newest = max(newest, head.first, head.second, *numbers)
    return newest


def _sound_logs(
    logs: Sequence[bytes], problems: list[Problem]
) -> list[tuple[HiveBase, list[hives.LogEntry]]]:
    found = []
    for log in logs:
        try:
            reading = hives.read(Window(log[: hives.HEAD_BYTES]))
        except InputError:
            continue  # an empty log: nothing was ever written to it
        damaged = [
            each for each in reading.problems if each.code in {"hive-magic", "hive-checksum"}
        ]
        if damaged or reading.record.bins > HIVE_BYTES:
            problems += damaged
            continue
        changes, wrong = hives.entries(log, reading.record.bins)
        problems += wrong
        found.append((reading.record, changes))
    return found


def _put(data: bytearray, change: hives.LogEntry) -> bool:
    """Put the pages of one write in; false where one of them lies beyond any hive."""
    if any(offset + len(page) > HIVE_BYTES for offset, page in change.pages):
        return False
    for offset, page in change.pages:
        start, end = BASE_BYTES + offset, BASE_BYTES + offset + len(page)
        if len(data) < end:
            data.extend(bytes(end - len(data)))
        data[start:end] = page
    return True


def _settle(data: bytearray, head: HiveBase, change: hives.LogEntry, number: int) -> None:
    """The base block after a write: that of its log, as of a hive."""
    after = hives.BASE.encode(
        msgspec.structs.replace(
            head,
            kind=0,
            first=number,
            second=number,
            bins=head.bins if change.bins is None else change.bins,
        )
    )
    rows = hives.BASE.rows.values()
    for row in rows:  # what lies between the fields stays as it is
        data[row.offset : row.offset + row.width] = after[row.offset : row.offset + row.width]
    data[508:512] = hives.checksum(bytes(data[:512])).to_bytes(4, "little")


# Which keys and values two hives do not have alike.


_LEAST_VALUE = 24
"""Bytes of a value in its cell."""


def changed_places(before: Hive, after: Hive) -> frozenset[tuple[str, str | None]]:
    """Path of the key in small letters, and name of the value in small letters; None for a key that
    only one of them has.

    Raises:
        DamagedHiveError: one of them cannot be read to its end.
    """
    one, other = _all(before), _all(after)
    return frozenset(
        place for place in one.keys() | other.keys() if one.get(place) != other.get(place)
    )


def read_to_end(hive: Hive) -> None:
    """Read every key and value.

    Raises:
        DamagedHiveError: one of them cannot be read.
    """
    _all(hive)


def _all(hive: Hive) -> dict[tuple[str, str | None], tuple[int, bytes]]:
    """Every key and value, with type and a sum of the data."""
    found: dict[tuple[str, str | None], tuple[int, bytes]] = {}
    left = hive.length
    for path, key in walk(hive.root):
        place = path.casefold()
        found[place, None] = (0, key.class_name().encode())
        for value in key.values():
            data = hive.data(value)
            left -= max(len(data), _LEAST_VALUE)
            if left < 0:
                raise DamagedHiveError("its values hold more than it has room for.")
            digest = hashlib.blake2b(data, digest_size=16).digest()
            found[place, value.name.casefold()] = (value.type, digest)
    return found


# Where a system of the nt family keeps what is current: the control set that it selects, and the
# keys below which makers keep what belongs to the present version.


_MOST_SYSTEMS = 1000
"""A maker has few systems; a key with more is of another kind, such as classes of files."""


def control_set(root: Key) -> Key | None:
    """The control set that the system hive selects; None where it names none, or it is not there.

    Raises:
        DamagedHiveError
    """
    select = root.child("Select")
    number = select.number("Current") if select is not None else None
    return root.child(f"ControlSet{number:03}") if number is not None else None


def current_versions(root: Key) -> Iterator[Key]:
    """The keys of what is current in the hive of programs, those of programs for smaller machines,
    too.

    Raises:
        DamagedHiveError
    """
    for maker in root.children():
        if maker.cell.subkeys > _MOST_SYSTEMS:
            continue
        for system in maker.children():
            current = system.child("CurrentVersion")
            if current is not None:
                yield current
                continue
            for inner in system.children():
                current = inner.child("CurrentVersion")
                if current is not None:
                    yield current
