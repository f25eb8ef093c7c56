"""Transaction logs of settings hives, of both kinds: a map of changed sectors with their content,
and entries with numbers and checksums of their own.

Source: the public registry file format specification, sections "Old format" and "New format" of
"Format of transaction log files"; the checksum of entries is Marvin32 with the seed given there
(the algorithm is published with an open run-time library).
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import Problem

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
