"""The base block and the bins of a settings hive: who wrote it, whether it was written to its end,
and whether its bins hang together.

Source: the hive format as described from the file itself by independent writers (the public
registry file format specification, sections "Base block", "Hive bin" and "Cell"). Offsets in a
hive count from the end of the base block.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import Field, InputError, Layout, Problem, Reading, Window, hex_preview

BASE_BYTES = 4096
"""Length of the base block of a hive; logs carry its first 512 bytes."""
HEAD_BYTES = 512
NOTHING = 0xFFFF_FFFF
"""Stands for no cell."""
Bytes = bytes | memoryview
MAGIC, BIN_MAGIC = b"regf", b"hbin"
_BIN_HEAD = 32
_BIN_STEP = 4096
_MOST_PROBLEMS = 64
"""Damage of a whole hive must not cost memory; the first problems tell."""


class HiveBase(msgspec.Struct, frozen=True):
    """The base block as it is on the disk.

    Attributes:
        first: and `second`: raised before and after each write; they differ where one was cut off.
        kind: 0 a hive; others are logs.
        bins: length of all bins.
    """

    magic: bytes
    first: int
    second: int
    written: int
    major: int
    minor: int
    kind: int
    root: int
    bins: int
    name: bytes
    checksum: int

    @property
    def is_finished(self) -> bool:
        """Whether the last write came to its end."""
        return self.first == self.second


BASE = Layout(
    HiveBase,
    HEAD_BYTES,
    [
        Field("magic", 0, 4, "bytes", "", "regf"),
        Field("first", 4, 4, "u", "", "sequence number, raised before a write"),
        Field("second", 8, 4, "u", "", "the same, raised after it"),
        Field("written", 12, 8, "u", "100 ns", "time of the last write, since 1601"),
        Field("major", 20, 4, "u", "", "1"),
        Field("minor", 24, 4, "u", "", "3 to 6"),
        Field("kind", 28, 4, "u", "", "0 a hive, 1, 2 and 6 logs"),
        Field("root", 36, 4, "u", "bytes", "cell of the root key"),
        Field("bins", 40, 4, "u", "bytes", "length of all bins"),
        Field("name", 48, 64, "bytes", "", "end of the path that it was loaded from"),
        Field("checksum", 508, 4, "u", "", "exclusive or of the 127 numbers before"),
    ],
)


def checksum(head: bytes) -> int:
    """Of the first 508 bytes: the exclusive or of its numbers, but never 0 or all ones.

    Raises:
        InputError: there are fewer.
    """
    total = 0
    for number in struct.unpack("<127I", Window(head).take(0, 508)):
        total ^= number
    return {0: 1, NOTHING: NOTHING - 1}.get(total, total)


def read(window: Window) -> Reading[HiveBase]:
    """Read the base block of a hive or a log.

    Raises:
        InputError: fewer than 512 bytes.
    """
    base = BASE.read(window)
    found: list[Problem] = []

    def wrong(name: str, code: str, value: object, expected: str) -> None:
        found.append(BASE.wrong(name, window.offset, code, value, expected))

    if base.magic != MAGIC:
        wrong("magic", "hive-magic", hex_preview(base.magic), "72 65 67 66")
    right = checksum(window.data)
    if base.checksum != right:
        wrong("checksum", "hive-checksum", f"{base.checksum:08x}", f"{right:08x}")
    if (base.major, base.minor) not in {(1, minor) for minor in range(2, 7)}:
        wrong("minor", "hive-version", f"{base.major}.{base.minor}", "1.2 to 1.6")
    if base.bins % _BIN_STEP or not base.bins:
        wrong("bins", "hive-length", base.bins, "a multiple of 4096")
    if base.root % 8 or not _BIN_HEAD <= base.root < max(base.bins, 1):
        wrong("root", "hive-root", base.root, "a cell in the bins")
    if not base.is_finished:
        wrong("second", "write-unfinished", base.second, str(base.first))
    return Reading(base, tuple(found))


def bins_length(data: Bytes) -> int:
    """Bytes of bins that stand one behind the other. Args: data: the whole file."""
    at = BASE_BYTES
    while data[at : at + 4] == BIN_MAGIC and at + _BIN_HEAD <= len(data):
        start, size = struct.unpack_from("<II", data, at + 4)
        if start != at - BASE_BYTES or not size or size % _BIN_STEP or at + size > len(data):
            break
        at += size
    return at - BASE_BYTES


def check_bins(bins: Bytes, length: int, *, cells: bool = True) -> list[Problem]:
    """What is wrong with the bins and with how their cells fill them.

    Args:
        bins: all that stands behind the base block. length: what the base block says.
        cells: whether the cells in each bin are looked at.
    """
    found = []
    if len(bins) < length:
        at = BASE_BYTES + len(bins)
        found.append(Problem("hive-cut", at, 0, f"{len(bins)} bytes of bins", f"{length}"))
    for problem in _bin_problems(bins, min(length, len(bins)), cells):
        found.append(problem)
        if len(found) >= _MOST_PROBLEMS:
            break
    return found


def _bin_problems(bins: Bytes, end: int, cells: bool) -> Iterator[Problem]:
    at = 0
    while at + _BIN_HEAD <= end:
        magic, offset, size = struct.unpack_from("<4sII", bins, at)
        place = BASE_BYTES + at
        sound = not size % _BIN_STEP and 0 < size <= end - at
        if magic != BIN_MAGIC:
            yield Problem("bin-magic", place, 4, hex_preview(magic), "68 62 69 6e")
        elif offset != at:
            yield Problem("bin-offset", place + 4, 4, str(offset), str(at))
        elif not sound:
            yield Problem("bin-length", place + 8, 4, str(size), "a multiple of 4096 that fits")
        elif cells:
            yield from _cell_problems(bins, at, size)
        at += size if sound and magic == BIN_MAGIC else _BIN_STEP


def _cell_problems(bins: Bytes, start: int, size: int) -> Iterator[Problem]:
    """The cells of a bin fill it to its end; a length that does not ends the walk."""
    at, end = start + _BIN_HEAD, start + size
    while at < end:
        (length,) = struct.unpack_from("<i", bins, at)
        wide = abs(length)
        if wide < 8 or wide % 8 or at + wide > end:
            place = BASE_BYTES + at
            yield Problem("cell-length", place, 4, str(length), f"up to {end - at} in eights")
            return
        at += wide


# The cells of a settings hive: keys, values, and the lists that hold them together.
#
# Source: the public registry file format specification, sections "Key node", "Key values list",
# "Key value", "Index leaf", "Fast leaf", "Hash leaf", "Index root" and "Big data".


KEY, VALUE, SECURITY, BIG = b"nk", b"vk", b"sk", b"db"
PLAIN_LISTS = {b"li": 4, b"lf": 8, b"lh": 8}
"""Lists of subkeys by their marks, and how long a row is: a cell, and a hint of its name."""
LIST_OF_LISTS = b"ri"
BIG_FROM = 16_344
"""Longer data lie in pieces of this length, from version 1.4 on."""
_KEY_HEAD, _VALUE_HEAD = 76, 20
_ASCII_KEY, _ASCII_VALUE, _RESIDENT = 0x20, 1, 0x8000_0000


class DamagedHiveError(InputError):
    """A structure of a hive that is not what it has to be; what lies behind it is hidden."""


class KeyCell(msgspec.Struct, frozen=True):
    """A key as it is in its cell. Cells are named by their offsets.

    Attributes:
        written: 100 ns since 1601.
        class_cell: and `class_bytes`: text that few keys have beside their values.
    """

    name: str
    flags: int
    written: int
    parent: int
    subkeys: int
    subkey_list: int
    values: int
    value_list: int
    class_cell: int
    class_bytes: int


class ValueCell(msgspec.Struct, frozen=True):
    """A value as it is in its cell.

    Attributes:
        inline: the data themselves where they are at most four bytes long; else None.
    """

    name: str
    type: int
    length: int
    data_cell: int
    inline: bytes | None


def read_key(cell: bytes, at: int) -> KeyCell:
    """A key. Args: at: offset of the cell, for errors.

    Raises:
        DamagedHiveError
    """
    if len(cell) < _KEY_HEAD or cell[:2] != KEY:
        raise DamagedHiveError(f"the cell at {at} holds no key.")
    flags, written = struct.unpack_from("<HQ", cell, 2)
    (parent, subkeys) = struct.unpack_from("<II", cell, 16)
    (subkey_list,) = struct.unpack_from("<I", cell, 28)
    values, value_list, _, class_cell = struct.unpack_from("<IIII", cell, 36)
    length, class_bytes = struct.unpack_from("<HH", cell, 72)
    if _KEY_HEAD + length > len(cell):
        raise DamagedHiveError(f"the name of the key at {at} does not fit into its cell.")
    raw = cell[_KEY_HEAD : _KEY_HEAD + length]
    name = raw.decode("latin-1") if flags & _ASCII_KEY else raw.decode("utf-16-le", "replace")
    return KeyCell(
        name=name,
        flags=flags,
        written=written,
        parent=parent,
        subkeys=subkeys,
        subkey_list=subkey_list,
        values=values,
        value_list=value_list,
        class_cell=class_cell,
        class_bytes=class_bytes,
    )


def read_value(cell: bytes, at: int) -> ValueCell:
    """A value. Args: at: offset of the cell, for errors.

    Raises:
        DamagedHiveError
    """
    if len(cell) < _VALUE_HEAD or cell[:2] != VALUE:
        raise DamagedHiveError(f"the cell at {at} holds no value.")
    length, size, data_cell, kind, flags = struct.unpack_from("<HIIIH", cell, 2)
    if _VALUE_HEAD + length > len(cell):
        raise DamagedHiveError(f"the name of the value at {at} does not fit into its cell.")
    raw = cell[_VALUE_HEAD : _VALUE_HEAD + length]
    name = raw.decode("latin-1") if flags & _ASCII_VALUE else raw.decode("utf-16-le", "replace")
    inline = None
    if size & _RESIDENT:
        size &= ~_RESIDENT
        if size > 4:
            raise DamagedHiveError(f"the value at {at} keeps {size} bytes in four.")
        inline = cell[8 : 8 + size]
    return ValueCell(name, kind, size, data_cell, inline)


def read_list(cell: bytes, at: int) -> tuple[bool, list[int]]:
    """A list of subkeys: whether it is one of lists, and the cells that it names.

    Raises:
        DamagedHiveError
    """
    mark = cell[:2]
    row = 4 if mark == LIST_OF_LISTS else PLAIN_LISTS.get(mark)
    if row is None or len(cell) < 4:
        raise DamagedHiveError(f"the cell at {at} holds no list of keys.")
    (count,) = struct.unpack_from("<H", cell, 2)
    if 4 + count * row > len(cell):
        raise DamagedHiveError(f"the list of keys at {at} has {count} rows, more than fit into it.")
    cells = [struct.unpack_from("<I", cell, 4 + number * row)[0] for number in range(count)]
    return mark == LIST_OF_LISTS, cells


# Transaction logs of settings hives, of both kinds: a map of changed sectors with their content,
# and entries with numbers and checksums of their own.
#
# Source: the public registry file format specification, sections "Old format" and "New format" of
# "Format of transaction log files"; the checksum of entries is Marvin32 with the seed given there
# (the algorithm is published with an open run-time library).


_HEAD_BYTES = 512
_SECTOR = 512
_MAP, _ENTRY = b"DIRT", b"HvLE"
_ENTRY_HEAD = 40
_SEED = 0x82EF_4D88_7A4E_55C5
_WORD = 0xFFFF_FFFF
_MOST_ENTRIES, _MOST_PAGES = 65_536, 65_536


class LogEntry(msgspec.Struct, frozen=True):
    """Changes that were made together.

    Attributes:
        sequence: number of the write; None in a map, which has none of its own.
        bins: length of all bins after it; None in a map.
        pages: pairs of an offset in the bins and what stands there afterwards.
    """

    sequence: int | None
    bins: int | None
    pages: tuple[tuple[int, bytes], ...]


def entries(data: bytes, bins: int) -> tuple[list[LogEntry], list[Problem]]:
    """The sound changes of a log, in their order; the first damaged one ends them.

    Args:
        data: the whole log, its head of 512 bytes included.
        bins: length of the bins of its hive, from that head.
    """
    mark = data[_HEAD_BYTES : _HEAD_BYTES + 4]
    if mark == _MAP:
        return _mapped(data, bins)
    found: list[LogEntry] = []
    at = _HEAD_BYTES
    while data[at : at + 4] == _ENTRY and len(found) < _MOST_ENTRIES:
        size = int.from_bytes(data[at + 4 : at + 8], "little")
        entry = data[at : at + size]
        if size < _ENTRY_HEAD or size % _SECTOR or len(entry) < size:
            return found, [Problem("log-entry-cut", at, 8, f"{size} bytes", "an entry that fits")]
        if not _is_sound(entry):
            return found, [Problem("log-entry-damaged", at, size, "other checksums", "its own")]
        pages = tuple(_pages(entry))
        sequence, length = struct.unpack_from("<II", entry, 12)
        found.append(LogEntry(sequence, length, pages))
        at += size
    return found, []


def _is_sound(entry: bytes) -> bool:
    body, head = struct.unpack_from("<QQ", entry, 24)
    return bool(marvin32(entry[:32]) == head and marvin32(entry[40:]) == body)


def _pages(entry: bytes) -> Iterator[tuple[int, bytes]]:
    (count,) = struct.unpack_from("<I", entry, 20)
    count = min(count, _MOST_PAGES)
    at = _ENTRY_HEAD + 8 * count
    for number in range(count):
        place = _ENTRY_HEAD + 8 * number
        if place + 8 > len(entry):
            return
        offset, size = struct.unpack_from("<II", entry, place)
        if at + size > len(entry):
            return
        yield offset, entry[at : at + size]
        at += size


def _mapped(data: bytes, bins: int) -> tuple[list[LogEntry], list[Problem]]:
    length = -(-bins // _SECTOR // 8)
    start = _HEAD_BYTES + 4
    marks = data[start : start + length]
    at = -(-(start + length) // _SECTOR) * _SECTOR
    pages = []
    for number in range(8 * len(marks)):
        if marks[number >> 3] >> (number & 7) & 1:
            page = data[at : at + _SECTOR]
            if len(page) < _SECTOR:
                return [], [Problem("log-cut", at, _SECTOR, f"{len(page)} bytes", "a sector")]
            pages.append((number * _SECTOR, page))
            at += _SECTOR
    return [LogEntry(None, None, tuple(pages))], []


def marvin32(data: bytes) -> int:
    """The checksum of log entries: rounds of addition, exclusive or and rotation over words."""
    low, high = _SEED & _WORD, _SEED >> 32
    whole = len(data) & ~3
    rest = int.from_bytes(data[whole:], "little") | 0x80 << 8 * (len(data) - whole)
    for word in (*struct.unpack(f"<{whole // 4}I", data[:whole]), rest, 0):
        low = low + word & _WORD
        high ^= low
        low = ((low << 20 | low >> 12) & _WORD) + high & _WORD
        high = (high << 9 | high >> 23) & _WORD ^ low
        low = ((low << 27 | low >> 5) & _WORD) + high & _WORD
        high = (high << 19 | high >> 13) & _WORD
    return high << 32 | low
