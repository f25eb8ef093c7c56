"""A journal searched as a whole, without looking at every entry.

What an entry says stands in a *data object* of its own, which knows the entries that have it. So
the file is gone through once for certain bytes, as text is; from a place that holds them the way
leads to the object around it, and from there to its entries. The clocks of all entries come out of
the same pass, as columns. Packed values show by the first eight bytes of their objects, which are
looked for as numbers; each is unpacked and looked at by itself.

This works only for a file whose arrays list every entry; for all others there is the slower walk.

Source: systemd, "Journal File Format" (docs/JOURNAL_FILE_FORMAT.md, version 252), "Objects".
"""

import struct
from collections.abc import Callable, Iterator
from itertools import islice
from typing import TYPE_CHECKING, NamedTuple

from mending.formats.evidence.binary_journal.journal import Journal

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

Find = Callable[[bytes], list[int]]
"""Bytes to the places in them where what is looked for begins."""
_PACKED = (0x0101, 0x0201, 0x0401)
"""The first eight bytes of a data object, as a number, whose value is packed with XZ, LZ4, zstd."""
_NAMES = (b"MESSAGE=", b"SYSLOG_IDENTIFIER=", b"_COMM=")
_PIECE, _ENTRY_BYTES = 1 << 20, 64
_BEFORE, _TRIES = 1 << 16, 8
"""Bytes in front of a place in which its value has to begin; beginnings that are looked at."""
_DATA, _ENTRY = 1, 3
_PLAIN_HEAD, _COMPACT_HEAD = 64, 72
_MOST_OBJECT, _MOST_ENTRIES = 1 << 24, 1 << 21
_MOST_HITS, _MOST_LOST = 200_000, 20_000
"""Entries that say something; places with certain bytes that lie in no value."""


class EntryTable(NamedTuple):
    """All entries of a file in the order in which they were written.

    Attributes:
        offsets, realtimes, monotonics: shape (n,), bytes and microseconds.
        boots: shape (n, 2), the two halves of the identifier of the start.
        hits: places in the columns of entries that say what was looked for, ascending.
    """

    offsets: "npt.NDArray[np.uint64]"
    realtimes: "npt.NDArray[np.uint64]"
    monotonics: "npt.NDArray[np.uint64]"
    boots: "npt.NDArray[np.uint64]"
    hits: list[int]


def search(journal: Journal, size: int, find: Find, longest: int) -> EntryTable | None:
    """Every entry's clocks, and those that say something; None for a file that has to be walked.

    Args:
        size: of the file, in bytes.
        find: finds what is looked for.
        longest: of what is looked for, in bytes.
    """
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    header = journal.header
    if not 0 < header.entries <= _MOST_ENTRIES:
        return None
    offsets = np.fromiter(journal.listed(), np.uint64)
    if len(offsets) != header.entries or journal.problems:
        return None
    if np.any(offsets[1:] <= offsets[:-1]) or int(offsets[-1]) + _ENTRY_BYTES > size:
        return None
    heads = np.zeros((len(offsets), 5), np.uint64)
    hits: set[int] = set()
    seen, lost = header.start, 0
    for start in range(header.start, size, _PIECE):
        piece = journal.read(start, _PIECE + max(_ENTRY_BYTES, longest))
        if not _take_heads(piece, start, offsets, heads):
            return None
        for place in _packed_in(piece):
            hits.update(_entries_of(journal, start + place, find))
        for place in find(piece):
            if start + place >= seen:
                end, entries = _entries_with(journal, start + place, find)
                lost += end <= start + place
                seen = max(seen, end)
                hits.update(entries)
            if len(hits) > _MOST_HITS or lost > _MOST_LOST:
                return None
    places = np.searchsorted(offsets, np.array(sorted(hits), np.uint64))
    known = [int(place) for place in places if place < len(offsets)]
    return EntryTable(offsets, heads[:, 1], heads[:, 2], heads[:, 3:], known)


def _take_heads(
    piece: bytes,
    start: int,
    offsets: "npt.NDArray[np.uint64]",
    heads: "npt.NDArray[np.uint64]",
) -> bool:
    """The fixed parts of the entries that begin in a piece; false where one is none."""
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    first, last = np.searchsorted(offsets, [start, start + _PIECE])
    if first == last:
        return True
    data = np.frombuffer(piece, np.uint8)
    places = (offsets[first:last] - np.uint64(start)).astype(np.int64)
    if int(places[-1]) + _ENTRY_BYTES > len(data) or np.any(data[places] != _ENTRY):
        return False
    rows = data[places[:, None] + np.arange(16, 56)]
    heads[first:last] = rows.reshape(-1).view("<u8").reshape(-1, 5)
    return bool(np.all(heads[first:last, 1]) and np.all(heads[first:last, 3:].any(axis=1)))


def _packed_in(piece: bytes) -> list[int]:
    """Where objects with packed values may begin."""
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    words = np.frombuffer(piece, "<u8", min(len(piece), _PIECE) // 8)
    found = np.logical_or.reduce([words == head for head in _PACKED])
    places: list[int] = (np.flatnonzero(found) * 8).tolist()
    return places


def _entries_with(journal: Journal, place: int, find: Find) -> tuple[int, list[int]]:
    """Where the value around a place ends, and the entries that have it; none where it is no
    message and no name.
    """
    object_at, end = _object_around(journal, place) or (0, place)
    return end, list(_entries_of(journal, object_at, find)) if object_at else []


def _entries_of(journal: Journal, object_at: int, find: Find) -> Iterator[int]:
    """The entries that have a value, if it says what is looked for."""
    value = journal.field(object_at)
    if value is not None and find(value[1]):
        yield from islice(journal.referring(object_at), _MOST_HITS)


def _object_around(journal: Journal, place: int) -> tuple[int, int] | None:
    """The data object with a place in its value: where it begins and ends."""
    head = _COMPACT_HEAD if journal.header.compact else _PLAIN_HEAD
    floor = max(place - _BEFORE, journal.header.start)
    before = journal.read(floor, place - floor)
    for name in _NAMES:
        until = len(before)
        for _ in range(_TRIES):
            at = before.rfind(name, 0, until)
            if at < 0:
                break
            found = floor + at - head
            end = _end_of(journal, found)
            if end is not None and end > place:
                return found, end
            until = at
    return None


def _end_of(journal: Journal, offset: int) -> int | None:
    """The end of a data object; None where there is none at this place."""
    if offset % 8 or offset < journal.header.start:
        return None
    head = journal.bytes_at(offset, 16)
    if len(head) < 16 or head[0] != _DATA:
        return None
    (size,) = struct.unpack_from("<Q", head, 8)
    return offset + size if _PLAIN_HEAD <= size <= _MOST_OBJECT else None
