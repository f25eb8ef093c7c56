"""A journal of systemd, entry by entry.

A file is a header and, behind it, objects one after the other: *data* (one field with its value,
written once however many entries have it, perhaps packed), *entries* (two clocks, the identifier of
the start, and the places of their data), and *arrays of entries*, a chain in order of time. Newer
files are compact: places have 32 bits.

Entries are found by the arrays. A file that a power cut left open may have entries that no array
lists, and damage may break the chain: from the last place that was sure, objects are then walked
one by one.

Source: systemd, "Journal File Format" (docs/JOURNAL_FILE_FORMAT.md, version 252).
"""

import lzma
import struct
from collections.abc import Callable, Iterator, Mapping
from itertools import islice
from typing import TYPE_CHECKING, Any, BinaryIO, NamedTuple

import msgspec

from mending.model import LogRecord, Problem, clean_text, load_unpacker

Read = Callable[[int, int], bytes]
"""Offset and length to bytes; a short answer is the end of the file."""

MAGIC = b"LPKSHHRH"
HEAD_BYTES = 208
_COMPACT, _KNOWN = 16, 31
_ONLINE = 1
_DATA, _ENTRY, _ARRAY = 1, 3, 6
_TABLES = (4, 5)
"""Of hashes: they may be long, and are passed over."""
_XZ, _LZ4, _ZSTD = 1, 2, 4
_OBJECT = struct.Struct("<BB6xQ")
_ENTRY_HEAD, _ITEMS_AT = struct.Struct("<B7xQQQQ16s"), 64
_USUAL_ENTRY = 512
"""Bytes that hold most entries with all their places."""
_MOST_OBJECT, _MOST_ITEMS, _MOST_VALUE = 1 << 24, 1024, 1 << 20
_MOST_ARRAYS = 1 << 20
_PIECE, _PIECES = 1 << 18, 48
_MOST_KNOWN = 200_000
_TEXT = 8192
_PEEK = 128
_KEPT = (b"MESSAGE=", b"SYSLOG_IDENTIFIER=", b"_COMM=", b"_TRANSPORT=")


class JournalHeader(msgspec.Struct, frozen=True):
    """What a file says of itself.

    Attributes:
        compact: places have 32 bits.
        online: whether whoever wrote it had not closed it.
        start: where the objects begin; `end` where they should end.
        entries: how many there are; `array` is where the first array of them is.
    """

    compact: bool
    online: bool
    start: int
    end: int
    entries: int
    array: int


class Entry(msgspec.Struct, frozen=True):
    """An entry, without its values. Times are in microseconds: Unix time, and since the start."""

    offset: int
    realtime: int
    monotonic: int
    boot: str
    items: tuple[int, ...]


def is_journal(head: bytes) -> bool:
    """Whether a file begins as a journal does."""
    return head.startswith(MAGIC)


def read_header(head: bytes) -> JournalHeader | None:
    """The header; None where it is none, or asks for what is not known here."""
    if len(head) < HEAD_BYTES or not is_journal(head):
        return None
    (flags,) = struct.unpack_from("<I", head, 12)
    size, arena = struct.unpack_from("<QQ", head, 88)
    (count,) = struct.unpack_from("<Q", head, 152)
    (array,) = struct.unpack_from("<Q", head, 176)
    if flags & ~_KNOWN or not HEAD_BYTES <= size < 1 << 20:
        return None
    online = head[16] == _ONLINE
    return JournalHeader(bool(flags & _COMPACT), online, size, size + arena, count, array)


class Journal:
    """One opened file.

    Args:
        read: reads of it.
        size: its length in bytes.
        header: as `read_header` gives it.

    Attributes:
        read: see there.
        problems: what was damaged, as far as it was read.
    """

    def __init__(self, read: Read, size: int, header: JournalHeader) -> None:
        self.read, self._size, self.header = read, size, header
        self.problems: list[Problem] = []
        self._pieces: dict[int, bytes] = {}
        self._known: dict[int, tuple[bytes, bytes] | None] = {}

    def entries(self) -> Iterator[Entry]:
        """The entries in the order in which they were written."""
        last = 0
        for offset in self.listed():
            entry = self.entry(offset) if offset > last else None
            if entry is None:
                self._wrong(offset, "entry-damaged", "no entry")
                break
            last = offset
            yield entry
        yield from self._walked(last)

    def listed(self, array: int | None = None) -> Iterator[int]:
        """Places of entries by a chain of arrays, that of all entries where none is named; a place
        of 0 ends one that is not full.
        """
        at, seen = self.header.array if array is None else array, 0
        width = 4 if self.header.compact else 8
        while at and seen < _MOST_ARRAYS:
            body = self._object(at, _ARRAY)
            if body is None or len(body) < 8:
                self._wrong(at, "array-damaged", "no array of entries")
                return
            (following,) = struct.unpack_from("<Q", body)
            count = (len(body) - 8) // width
            places = struct.unpack_from(f"<{count}{'I' if width == 4 else 'Q'}", body, 8)
            for place in places:
                if not place:
                    return
                yield place
            if following and following <= at:
                self._wrong(at, "array-loop", "an array that points back")
                return
            at, seen = following, seen + 1

    def _walked(self, last: int) -> Iterator[Entry]:
        """Entries behind a place, object by object, up to the first that makes no sense."""
        at = self.header.start
        if last:
            size = self._size_at(last)
            if size is None:
                return
            at = _aligned(last + size)
        elif self.header.entries == 0:
            return
        while at + _OBJECT.size <= self._size:
            size = self._size_at(at)
            if size is None:
                return
            if self.bytes_at(at, 1) == bytes([_ENTRY]):
                entry = self.entry(at)
                if entry is None:
                    self._wrong(at, "entry-damaged", "no entry")
                    return
                yield entry
            at = _aligned(at + size)

    def entry(self, offset: int) -> Entry | None:
        """The entry at a place; None where there is none."""
        if offset % 8 or not self.header.start <= offset < self._size:
            return None
        data = self.bytes_at(offset, _USUAL_ENTRY)
        if len(data) < _ENTRY_HEAD.size:
            return None
        kind, size, _, realtime, monotonic, boot = _ENTRY_HEAD.unpack_from(data)
        if kind != _ENTRY or not _ITEMS_AT <= size <= self._size - offset:
            return None
        if not realtime or not boot.strip(b"\0"):
            return None  # its head came to the medium, and no more of it
        step, sign = (4, "I") if self.header.compact else (16, "Q8x")
        count = min((size - _ITEMS_AT) // step, _MOST_ITEMS)
        if _ITEMS_AT + count * step > len(data):
            data = self.bytes_at(offset, _ITEMS_AT + count * step)
            count = min(count, (len(data) - _ITEMS_AT) // step)
        items = struct.unpack_from(
            f"<{count}I" if step == 4 else "<" + sign * count, data, _ITEMS_AT
        )
        return Entry(offset, realtime, monotonic, boot.hex(), items)

    def values(self, entry: Entry) -> dict[bytes, bytes]:
        """Those fields of an entry that are kept here, by name with its equals sign."""
        found: dict[bytes, bytes] = {}
        known = self._known
        for item in entry.items:
            if item in known:
                pair = known[item]
            else:
                pair, repeats = self._field(item)
                if repeats:
                    if len(known) >= _MOST_KNOWN:
                        known.clear()
                    known[item] = pair
            if pair is not None:
                found[pair[0]] = pair[1]
        return found

    def referring(self, offset: int) -> Iterator[int]:
        """Places of the entries that have a value (*data object*: first entry, then an array)."""
        head = self.bytes_at(offset, 64)
        if len(head) == 64 and head[0] == _DATA:
            first, array = struct.unpack_from("<QQ", head, 40)
            if first:
                yield first
            yield from self.listed(array)

    def field(self, offset: int) -> tuple[bytes, bytes] | None:
        """A value that is kept here, with its name; None for others."""
        return self._field(offset)[0]

    def _field(self, offset: int) -> tuple[tuple[bytes, bytes] | None, bool]:
        """A field that is kept, else None; and whether more entries than one have it."""
        head = self.bytes_at(offset, _OBJECT.size + 56 + _PEEK)
        if len(head) < _OBJECT.size or head[0] != _DATA:
            return None, False
        _, flags, size = _OBJECT.unpack_from(head)
        start = 72 if self.header.compact else 64
        if not start <= size <= _MOST_OBJECT:
            return None, False
        repeats = len(head) >= 64 and int.from_bytes(head[56:64], "little") > 1
        packed = flags & (_XZ | _LZ4 | _ZSTD)
        if not packed and not head[start:].startswith(_KEPT):
            return None, repeats
        payload = self.bytes_at(offset + start, min(size - start, _MOST_VALUE))
        data = _unpacked(payload, packed) if packed else payload
        name = next((each for each in _KEPT if data.startswith(each)), None)
        return ((name, data[len(name) :]) if name is not None else None), repeats

    def _object(self, offset: int, kind: int) -> bytes | None:
        """The body of an object of a kind, behind its head; None where there is none."""
        size = self._size_at(offset)
        if size is None:
            return None
        data = self.bytes_at(offset, size)
        return data[_OBJECT.size :] if len(data) == size and data[0] == kind else None

    def _size_at(self, offset: int) -> int | None:
        """The length of the object at a place; None where there can be none."""
        if offset % 8 or not self.header.start <= offset < self._size:
            return None
        head = self.bytes_at(offset, _OBJECT.size)
        if len(head) < _OBJECT.size:
            return None
        kind, _, size = _OBJECT.unpack(head)
        sound = 1 <= kind <= 7 and _OBJECT.size <= size <= self._size - offset
        return size if sound and (size <= _MOST_OBJECT or kind in _TABLES) else None

    def bytes_at(self, offset: int, length: int) -> bytes:
        """Bytes of the file; fewer where it ends or cannot be read."""
        number, into = divmod(offset, _PIECE)
        if into + length <= _PIECE:
            piece = self._pieces.get(number)
            if piece is None:
                if len(self._pieces) >= _PIECES:
                    self._pieces.pop(next(iter(self._pieces)))
                piece = self.read(number * _PIECE, _PIECE)
                self._pieces[number] = piece
            return piece[into : into + length]
        return self.read(offset, length)

    def _wrong(self, offset: int, code: str, found: str) -> None:
        if len(self.problems) < 8:
            self.problems.append(Problem(code, offset, 16, found, "a sound object"))


def record(entry: Entry, values: dict[bytes, bytes], number: int) -> LogRecord:
    """An entry as every log has it."""
    kernel = values.get(b"_TRANSPORT=") == b"kernel"
    by = values.get(b"SYSLOG_IDENTIFIER=") or values.get(b"_COMM=") or b""
    return LogRecord(
        at=entry.realtime / 1e6,
        by="kernel" if kernel else clean_text(by.decode("utf-8", "replace"), 80),
        text=clean_text(values.get(b"MESSAGE=", b"").decode("utf-8", "replace"), _TEXT),
        start=entry.boot,
        line=number,
        clock=entry.monotonic / 1e6,
    )


def _unpacked(payload: bytes, how: int) -> bytes:
    """A packed value; nothing where it is damaged."""
    try:
        if how & _ZSTD:
            plain = load_unpacker("zstandard").ZstdDecompressor().stream_reader(payload)
            return bytes(plain.read(_MOST_VALUE))
        if how & _LZ4:
            length = int.from_bytes(payload[:8], "little")
            if length > _MOST_VALUE:
                return b""
            block = load_unpacker("lz4.block")
            return bytes(block.decompress(payload[8:], uncompressed_size=length))
        return lzma.LZMADecompressor(memlimit=64 << 20).decompress(payload, _MOST_VALUE)
    except (lzma.LZMAError, EOFError, ValueError, OSError):
        return b""
    except Exception as error:  # its class is known only once the library is loaded
        if type(error).__module__.startswith(("zstandard", "zstd", "lz4", "_block")):
            return b""
        raise


def _aligned(offset: int) -> int:
    return -(-offset // 8) * 8


# A journal searched as a whole, without looking at every entry.
#
# What an entry says stands in a *data object* of its own, which knows the entries that have it. So
# the file is gone through once for certain bytes, as text is; from a place that holds them the way
# leads to the object around it, and from there to its entries. The clocks of all entries come out
# of the same pass, as columns. Packed values show by the first eight bytes of their objects, which
# are looked for as numbers; each is unpacked and looked at by itself.
#
# This works only for a file whose arrays list every entry; for all others there is the slower walk.
#
# Source: systemd, "Journal File Format" (docs/JOURNAL_FILE_FORMAT.md, version 252), "Objects".


if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

Find = Callable[[bytes], list[int]]
"""Bytes to the places in them where what is looked for begins."""
_PACKED = (0x0101, 0x0201, 0x0401)
"""The first eight bytes of a data object, as a number, whose value is packed with XZ, LZ4, zstd."""
_NAMES = (b"MESSAGE=", b"SYSLOG_IDENTIFIER=", b"_COMM=")
_SEARCH_PIECE, _ENTRY_BYTES = 1 << 20, 64
_BEFORE, _TRIES = 1 << 16, 8
"""Bytes in front of a place in which its value has to begin; beginnings that are looked at."""
_SEARCH_DATA, _SEARCH_ENTRY = 1, 3
_PLAIN_HEAD, _COMPACT_HEAD = 64, 72
_SEARCH_MOST_OBJECT, _MOST_ENTRIES = 1 << 24, 1 << 21
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
    for start in range(header.start, size, _SEARCH_PIECE):
        piece = journal.read(start, _SEARCH_PIECE + max(_ENTRY_BYTES, longest))
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

    first, last = np.searchsorted(offsets, [start, start + _SEARCH_PIECE])
    if first == last:
        return True
    data = np.frombuffer(piece, np.uint8)
    places = (offsets[first:last] - np.uint64(start)).astype(np.int64)
    if int(places[-1]) + _ENTRY_BYTES > len(data) or np.any(data[places] != _SEARCH_ENTRY):
        return False
    rows = data[places[:, None] + np.arange(16, 56)]
    heads[first:last] = rows.reshape(-1).view("<u8").reshape(-1, 5)
    return bool(np.all(heads[first:last, 1]) and np.all(heads[first:last, 3:].any(axis=1)))


def _packed_in(piece: bytes) -> list[int]:
    """Where objects with packed values may begin."""
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    words = np.frombuffer(piece, "<u8", min(len(piece), _SEARCH_PIECE) // 8)
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
    if len(head) < 16 or head[0] != _SEARCH_DATA:
        return None
    (size,) = struct.unpack_from("<Q", head, 8)
    return offset + size if _PLAIN_HEAD <= size <= _SEARCH_MOST_OBJECT else None


# Journals of systemd, as exported: a line a field with an empty line between entries, or a JSON
# object a line.
#
# Source: systemd, "Journal Export Formats" (text and binary fields; JSON: a field is a string,
# null, a list of numbers for bytes, or a list of values) and `systemd.journal-fields(7)`.


_LONGEST_LINE, _LONGEST_FIELD = 1 << 20, 1 << 20
_SYSTEMD_JOURNAL_KEPT = {
    b"MESSAGE",
    b"SYSLOG_IDENTIFIER",
    b"_COMM",
    b"__REALTIME_TIMESTAMP",
    b"__MONOTONIC_TIMESTAMP",
    b"_BOOT_ID",
    b"_TRANSPORT",
    b"_SOURCE_REALTIME_TIMESTAMP",
}


def is_export(head: bytes) -> bool:
    """Whether a file begins as an export does."""
    return head.startswith((b"__CURSOR=", b"__REALTIME_TIMESTAMP="))


def is_json(head: bytes) -> bool:
    """Whether a file begins with an entry as JSON."""
    return head.lstrip()[:1] == b"{" and b'"__REALTIME_TIMESTAMP"' in head


def read_export(stream: BinaryIO) -> Iterator[LogRecord]:
    """The entries of an export, in order; a binary field that is longer than it may be is passed
    over.
    """
    fields: dict[str, str] = {}
    number = 0
    while line := stream.readline(_LONGEST_LINE):
        line = line.rstrip(b"\n")
        if not line:
            if fields:
                number += 1
                yield _record(fields, number)
            fields = {}
            continue
        name, sign, value = line.partition(b"=")
        if not sign:
            value = _binary(stream)
        if name in _SYSTEMD_JOURNAL_KEPT:
            fields[name.decode()] = value[:_TEXT].decode("utf-8", errors="replace")
    if fields:
        yield _record(fields, number + 1)


def read_json(stream: BinaryIO) -> Iterator[LogRecord]:
    """The entries of a JSON export, in order. What is no JSON object is passed over."""
    number = 0
    while line := stream.readline(_LONGEST_LINE):
        try:
            entry: Any = msgspec.json.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            continue
        number += 1
        if isinstance(entry, dict):
            yield _record(
                {
                    name: _plain(entry[name])
                    for name in map(bytes.decode, _SYSTEMD_JOURNAL_KEPT)
                    if name in entry
                },
                number,
            )


def _binary(stream: BinaryIO) -> bytes:
    """A field that has its length in front: eight bytes, little-endian; a line end is behind it."""
    length = int.from_bytes(stream.read(8), "little")
    kept = stream.read(min(length, _LONGEST_FIELD))
    left = length - len(kept)
    while left > 0 and (piece := stream.read(min(left, _LONGEST_FIELD))):
        left -= len(piece)
    stream.read(1)
    return kept


def _plain(value: Any) -> str:
    if isinstance(value, list):
        if all(isinstance(item, int) and 0 <= item < 256 for item in value):
            return bytes(value[:_TEXT]).decode("utf-8", errors="replace")
        value = value[-1]
    return value if isinstance(value, str) else ""


def _record(fields: Mapping[str, str], number: int) -> LogRecord:
    micros = fields.get("_SOURCE_REALTIME_TIMESTAMP") or fields.get("__REALTIME_TIMESTAMP", "")
    kernel = fields.get("_TRANSPORT") == "kernel"
    since = fields.get("__MONOTONIC_TIMESTAMP", "")
    by = "kernel" if kernel else fields.get("SYSLOG_IDENTIFIER") or fields.get("_COMM", "")
    return LogRecord(
        at=_seconds(micros),
        by=clean_text(by, 80),
        text=clean_text(fields.get("MESSAGE", ""), _TEXT),
        start=clean_text(fields.get("_BOOT_ID", ""), 64),
        line=number,
        clock=_seconds(since),
    )


def _seconds(micros: str) -> float | None:
    return int(micros) / 1e6 if micros.isascii() and micros.isdigit() and len(micros) < 18 else None
