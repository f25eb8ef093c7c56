"""The base block and the bins of a settings hive: who wrote it, whether it was written to its end,
and whether its bins hang together.

Source: the hive format as described from the file itself by independent writers (the public
registry file format specification, sections "Base block", "Hive bin" and "Cell"). Offsets in a
hive count from the end of the base block.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import Field, Layout, Problem, Reading, Window, hex_preview

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
