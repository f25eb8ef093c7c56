"""The file table of an NTFS volume: records by number, each with the pieces that other records
hold of it.

The table is a file, and its first record describes itself: where the table lies is read from that
record, by the place that the boot sector names, or from its copy in the mirror where it is damaged.
A file with more attributes than its record has room for keeps a list of the records that hold the
rest. That holds for the table, too, whose later runs may stand in records that its earlier runs
lead to; so it is opened in rounds, each with what the one before made readable.
"""

from collections.abc import Iterable

from mending.disk.ntfs.stream import Stream
from mending.formats.filesystem import ntfs, ntfs_index, ntfs_records
from mending.formats.filesystem.ntfs_records import (
    ATTRIBUTE_LIST,
    DATA,
    MIRRORED,
    Attribute,
    FileRecord,
)
from mending.model import DamagedFileError, InputError, Window
from mending.source import Source

_CHUNK_BYTES = 65_536
"""Read at a time: 64 records of the usual length, one of the longest."""
_CHUNKS_KEPT = 256
_MOST_LISTED = 4096
"""Rows of one attribute list."""
_LIST_BYTES = 262_144
"""The system keeps no longer attribute list."""
_RECORD_SIZES = range(512, 65_537)


class FileTable:
    """The records of one volume.

    Raises:
        InputError: its boot sector makes no sense, or neither copy of the table's own record can be
            read.
    """

    def __init__(self, source: Source, offset: int) -> None:
        volume = ntfs.read(source.read(offset, ntfs.SIZE)).record
        self._source, self._offset = source, offset
        self.cluster = volume.cluster_sectors * volume.fields.bytes_per_sector
        self._size = volume.record_bytes
        if not self.cluster or self._size not in _RECORD_SIZES:
            raise InputError("The boot sector does not tell the size of clusters and records.")
        self._rows = max(_CHUNK_BYTES // self._size, 1)
        self._chunks: dict[int, bytes] = {}
        self._mirror = offset + volume.fields.mft_mirror_cluster * self.cluster
        starts = (offset + volume.fields.mft_cluster * self.cluster, self._mirror)
        self._stream = self._opened(starts)

    def _opened(self, starts: Iterable[int]) -> Stream:
        """The table by its own record, from either copy. Pieces of its runs may be kept in records
        that the pieces before them hold.
        """
        why = "is not there"
        for start in starts:
            self._chunks.clear()
            try:
                record = self._judged(self._source.read(start, self._size), 0)
                pieces = _of(record, DATA, "")
                self._stream = Stream(self._source, self._offset, self.cluster, pieces)
                for reference in sorted(self._elsewhere(record, DATA, "")):
                    if reference & ntfs_records.NUMBER:
                        pieces += _of(self.record(reference), DATA, "")
                        self._stream = Stream(self._source, self._offset, self.cluster, pieces)
            except (InputError, IndexError) as error:
                why = str(error)
                continue
            self._chunks.clear()
            return self._stream
        raise InputError(f"The file table cannot be found: its own record {why}")

    @property
    def records(self) -> int:
        """How many records the table has room for."""
        return self._stream.bytes // self._size

    def record(self, reference: int) -> FileRecord:
        """A record; where the reference has a sequence, of that one.

        Raises:
            DamagedFileError: it is torn, not in use, or used anew.
            ReadError: it cannot be read.
        """
        number, sequence = reference & ntfs_records.NUMBER, reference >> 48
        record = self._judged(self._window(number), number)
        if sequence and record.sequence != sequence:
            raise DamagedFileError(f"its record {number} was used anew for another file.")
        return record

    def stream(self, record: FileRecord, kind: int, name: str = "") -> Stream | None:
        """A value of a file, wherever its pieces are kept; None where it has none.

        Raises:
            InputError: a piece of it is lost.
        """
        pieces = self.pieces(record, kind, name)
        return Stream(self._source, self._offset, self.cluster, pieces) if pieces else None

    def pieces(self, record: FileRecord, kind: int, name: str = "") -> list[Attribute]:
        """The pieces of an attribute. Raises InputError."""
        pieces = _of(record, kind, name)
        for reference in sorted(self._elsewhere(record, kind, name)):
            other = self.record(reference)
            if other.offset != record.offset:
                pieces += _of(other, kind, name)
        return pieces

    def _elsewhere(self, record: FileRecord, kind: int, name: str) -> set[int]:
        """The other records that hold pieces of an attribute."""
        rows = record.attribute(ATTRIBUTE_LIST)
        if rows is None:
            return set()
        value = Stream(self._source, self._offset, self.cluster, [rows]).read(0, _LIST_BYTES)
        found = set()
        for _, row in zip(range(_MOST_LISTED), ntfs_index.listed_attributes(value), strict=False):
            if row.type == kind and row.name == name:
                found.add(row.reference)
        return found

    def _window(self, number: int) -> Window:
        if not 0 <= number < self.records:
            raise DamagedFileError(f"its record {number} is not in the table.")
        chunk, row = divmod(number, self._rows)
        if chunk not in self._chunks:
            if len(self._chunks) >= _CHUNKS_KEPT:
                self._chunks.pop(next(iter(self._chunks)))
            self._chunks[chunk] = self._read_chunk(chunk)
        data = self._chunks[chunk][row * self._size : (row + 1) * self._size]
        if len(data) < self._size:  # a sector of the chunk cannot be read: perhaps not this one
            data = self._stream.read(number * self._size, self._size)
        return Window(data, number * self._size)

    def _read_chunk(self, chunk: int) -> bytes:
        try:
            length = self._rows * self._size
            return self._stream.read(chunk * length, length)
        except InputError:
            return b""

    def _judged(self, window: Window, number: int) -> FileRecord:
        reading = ntfs_records.read(window)
        if reading.problems and number < MIRRORED:
            copy = self._source.read(self._mirror + number * self._size, self._size)
            reading = ntfs_records.read(copy)
        if reading.problems:
            problem = reading.problems[0]
            raise DamagedFileError(
                f"its record {number} is damaged: {problem.code}, {problem.found}."
            )
        if not reading.record.in_use:
            raise DamagedFileError(f"its record {number} is not in use.")
        return reading.record


def _of(record: FileRecord, kind: int, name: str) -> list[Attribute]:
    return [each for each in record.attributes if each.type == kind and each.name == name]
