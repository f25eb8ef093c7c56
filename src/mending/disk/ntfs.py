"""Files and folders of an NTFS volume as the running system sees them.

A folder is listed from all blocks of its index that are in use, not by walking the tree of them: so
a block that is lost or torn hides only the names in itself, and that it may do so is said.
"""

from bisect import bisect_right
from collections.abc import Iterable, Iterator, Sequence

from mending.formats import ntfs
from mending.formats.ntfs import (
    ATTRIBUTE_LIST,
    COMPRESSED,
    DATA,
    ENCRYPTED,
    INDEX,
    INDEX_BITMAP,
    INDEX_BLOCKS,
    INDEX_ROOT,
    MIRRORED,
    REPARSE,
    Attribute,
    FileRecord,
    NameEntry,
    Reparse,
)
from mending.model import ByteOffset, DamagedFileError, InputError, Problem, Window, clean_text
from mending.model.limits import FOLDER_ROWS
from mending.source import Source

# The bytes of one value on an NTFS volume, from wherever its runs of clusters lie.
#
# A short value stands in the file's record itself. A longer one is a list of runs (first cluster
# and count, none for a hole), perhaps in several pieces that have to join without a gap. Behind the
# length up to which it was ever written it reads as zeros, whatever lies there. A packed value is
# cut into units of usually 16 clusters: a unit with as many clusters as it has is stored as it is,
# one with fewer is packed into these, one with none is zeros.


_STEP = 4 * 1024 * 1024
"""Bytes that are read at a time."""
_MOST_UNPACKED = 8 * 1024 * 1024
"""Packed bytes that are expanded at a time; more would cost seconds."""
_MOST_RUNS = 262_144
"""Runs of one value: a file of a terabyte in pieces of 4 MiB."""


class Stream:
    """One value, read by offset.

    Args:
        volume: absolute offset of the volume. cluster: bytes in a cluster.
        pieces: all pieces of one attribute, in any order.

    Raises:
        InputError: pieces are missing, or there are too many runs.
    """

    def __init__(
        self, source: Source, volume: int, cluster: int, pieces: Sequence[Attribute]
    ) -> None:
        self._source, self._volume, self._cluster = source, volume, cluster
        ordered = sorted(pieces, key=lambda piece: piece.first)
        head = ordered[0]
        self.bytes, self.flags, self.unit = head.bytes, head.flags, head.unit
        self._value = head.value
        self._initialized = min(head.initialized, head.bytes)
        self._starts: list[int] = []
        self._runs: list[tuple[int | None, int]] = []
        at = 0
        for piece in ordered if head.value is None else ():
            if piece.first != at:
                raise InputError(f"its clusters from {at} on are not listed.")
            for cluster_number, count in piece.runs:
                if len(self._runs) >= _MOST_RUNS:
                    raise InputError(f"it lies in more than {_MOST_RUNS} pieces.")
                self._starts.append(at)
                self._runs.append((cluster_number, count))
                at += count
        self._clusters = at

    @property
    def is_packed(self) -> bool:
        """Whether it is kept compressed by the file system."""
        return self._value is None and bool(self.flags & COMPRESSED)

    def extents(self) -> list[tuple[int, int]] | None:
        """Where it lies, offset in the volume and length in bytes; None where its bytes do not
        stand on the disk as they read.
        """
        plain = self._value is None and not self.flags & (COMPRESSED | ENCRYPTED)
        whole = self._initialized >= self.bytes
        if not plain or not whole or any(number is None for number, _ in self._runs):
            return None
        return [
            ((number or 0) * self._cluster, count * self._cluster) for number, count in self._runs
        ]

    def read(self, offset: int, length: int) -> bytes:
        """Bytes of the value, fewer at its end.

        Raises:
            InputError: they are encrypted, packed otherwise than known, or not all listed.
            ReadError: a sector cannot be read.
        """
        length = min(length, self.bytes - offset)
        if length <= 0:
            return b""
        if self._value is not None:
            return self._value[offset : offset + length]
        if self.flags & ENCRYPTED:
            raise InputError("it is encrypted by the file system.")
        written = max(min(length, self._initialized - offset), 0)
        data = self._unpacked(offset, written) if self.is_packed else self._plain(offset, written)
        return data + bytes(length - written)

    def _plain(self, offset: int, length: int) -> bytes:
        parts, size = [], self._cluster
        while length > 0:
            number = bisect_right(self._starts, offset // size) - 1
            if number < 0 or offset >= self._clusters * size:
                raise InputError(f"its clusters from {offset // size} on are not listed.")
            first, count = self._runs[number]
            into = offset - self._starts[number] * size
            step = min(length, count * size - into, _STEP)
            if first is None:
                parts.append(bytes(step))
            else:
                parts.append(self._from_disk(first * size + into, step))
            offset, length = offset + step, length - step
        return b"".join(parts)

    def _from_disk(self, offset: int, length: int) -> bytes:
        data = self._source.read(self._volume + offset, length).data
        if len(data) < length:
            raise InputError("it lies behind the end of the disk.")
        return data

    def _unpacked(self, offset: int, length: int) -> bytes:
        """Units of clusters that are packed together: a packed one ends in a hole, one that could
        not be packed has none, one of zeros is all hole.
        """
        if length > _MOST_UNPACKED:
            raise InputError(f"it is packed, and {length} bytes of it are more than are expanded.")
        unit = self.unit * self._cluster
        parts = [
            self._unit(number, unit)
            for number in range(offset // unit, -(-(offset + length) // unit))
        ]
        into = offset % unit
        return b"".join(parts)[into : into + length]

    def _unit(self, number: int, unit: int) -> bytes:
        kept, at = [], number * self.unit
        end = min(at + self.unit, self._clusters)
        while at < end:
            run = bisect_right(self._starts, at) - 1
            first, count = self._runs[run]
            step = min(end, self._starts[run] + count) - at
            if first is not None:
                kept.append((first + at - self._starts[run], step))
            at += step
        there = sum(count for _, count in kept)
        data = b"".join(
            self._from_disk(first * self._cluster, count * self._cluster) for first, count in kept
        )
        if not kept or there == self.unit:
            return data.ljust(unit, b"\0")
        return ntfs.unpack_lznt1(data, unit).ljust(unit, b"\0")


# The file table of an NTFS volume: records by number, each with the pieces that other records
# hold of it.
#
# The table is a file, and its first record describes itself: where the table lies is read from that
# record, by the place that the boot sector names, or from its copy in the mirror where it is
# damaged. A file with more attributes than its record has room for keeps a list of the records that
# hold the rest. That holds for the table, too, whose later runs may stand in records that its
# earlier runs lead to; so it is opened in rounds, each with what the one before made readable.


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
                    if reference & ntfs.RECORD_NUMBER:
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
        number, sequence = reference & ntfs.RECORD_NUMBER, reference >> 48
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
        for _, row in zip(range(_MOST_LISTED), ntfs.listed_attributes(value), strict=False):
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
        reading = ntfs.read_record(window)
        if reading.problems and number < MIRRORED:
            copy = self._source.read(self._mirror + number * self._size, self._size)
            reading = ntfs.read_record(copy)
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


Listed = tuple[str, int, bool, bool, int]
"""Name, length in bytes, whether it is a folder, whether it is a link, permission bits (all)."""
_ALL_PERMISSIONS = 0o777
_ROOT, _CAPITALS = 5, 10
_CAPITALS_BYTES = 131_072
_BLOCK_SIZES = (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536)
_BLOCK_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder's index that are read: half a million names."""
_REPARSE_BYTES = 16 * 1024
_LINKS = {ntfs.SYMBOLIC_LINK, ntfs.MOUNT_POINT}
_CLOUD = 0x9000_001A
"""The tag of files whose content is kept elsewhere, its varying bits taken off."""


class _Folder:
    """What a folder holds: rows for whoever lists it, references by folded name, and why some names
    may be hidden.
    """

    def __init__(
        self, rows: list[Listed], references: dict[str, int], problems: list[Problem]
    ) -> None:
        self.rows, self.references, self.problems = rows, references, problems


class NtfsReader:
    """One opened volume.

    Raises:
        InputError: its boot sector or its file table cannot be read.
    """

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        self.table = FileTable(source, offset)
        self._folders: dict[int, _Folder] = {}
        self._capitals: dict[int, int] | None = None

    def fold(self, name: str) -> str:
        """A name as the volume compares names: by its own table of capital letters."""
        if self._capitals is None:
            self._capitals = self._read_capitals()
        return name.translate(self._capitals) if self._capitals else name.casefold()

    def listing(self, folder: str) -> list[Listed]:
        """What a folder holds, as far as its index can be read."""
        return self._folder(self._find(folder)).rows

    def length(self, path: str) -> int:
        """The length of a file by its own record: what folders have of it may be outdated where it
        has several names.

        Raises:
            InputError: its record is damaged.
        """
        return self._length(self._record(path))

    def _length(self, record: FileRecord) -> int:
        data = record.attribute(DATA)
        if data is not None and not data.first:
            return data.bytes
        stream = self.table.stream(record, DATA)
        return stream.bytes if stream is not None else 0

    def hidden(self, folder: str) -> str:
        """Why names of a folder may be hidden; empty where none can be."""
        problems = self._folder(self._find(folder)).problems
        return f"a part of its index is damaged: {problems[0].found}" if problems else ""

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file.

        Raises:
            DamagedFileError: InputError: ReadError.
        """
        record = self._record(path)
        point = self._reparse(record)
        if point is not None and point.tag == ntfs.OVERLAY:
            raise InputError("it is kept packed by an overlay that is not read here.")
        if point is not None and point.tag & ~0xF000 == _CLOUD:
            raise InputError("its content is kept elsewhere, in the cloud.")
        stream = self.table.stream(record, DATA)
        return stream.read(0, length) if stream is not None else b""

    def extents(self, path: str) -> list[tuple[int, int]] | None:
        """Where a file lies, offset in the volume and length in bytes; None where its bytes do not
        stand on the disk as they read.
        """
        record = self._record(path)
        stream = self.table.stream(record, DATA)
        plain = stream is not None and self._reparse(record) is None
        return stream.extents() if stream is not None and plain else None

    def link(self, path: str) -> str:
        """What a link or mount point points at, as a path from the top of this volume where it
        names a drive letter, for a system's own links lead to its own volume.
        """
        point = self._reparse(self._record(path))
        target = (point.target if point is not None else "").replace("\\", "/")
        if target.startswith("/??/"):
            target = target[4:]
        if target[1:2] == ":":
            target = f"/{target[2:].lstrip('/')}"
        return clean_text(target, _REPARSE_BYTES)

    def is_packed(self, path: str) -> bool:
        """Whether the content of a file is kept compressed, by the file system or an overlay."""
        record = self._record(path)
        point, stream = self._reparse(record), self.table.stream(record, DATA)
        overlaid = point is not None and point.tag == ntfs.OVERLAY
        return overlaid or (stream is not None and stream.is_packed)

    def _record(self, path: str) -> FileRecord:
        return self.table.record(self._find(path))

    def _find(self, path: str) -> int:
        """The reference of a file or folder; links are not followed.

        Raises:
            InputError: there is none.
        """
        found = _ROOT
        for name in [part for part in path.split("/") if part]:
            inside = self._folder(found).references
            if self.fold(name) not in inside:
                raise InputError(f"There is no {path} on this volume.")
            found = inside[self.fold(name)]
        return found

    def _folder(self, reference: int) -> _Folder:
        if reference not in self._folders:
            rows, references, problems = list[Listed](), dict[str, int](), list[Problem]()
            for entry in self._entries(self.table.record(reference), problems):
                name = clean_text(entry.name)
                if name in {"", ".", ".."} or "/" in name:
                    continue
                if len(rows) >= FOLDER_ROWS:
                    found = f"more than {FOLDER_ROWS} names"
                    problems.append(Problem("folder-long", 0, 0, found, "fewer"))
                    break
                rows.append(self._row(name, entry))
                references.setdefault(self.fold(name), entry.reference)
            self._folders[reference] = _Folder(rows, references, problems)
        return self._folders[reference]

    def _row(self, name: str, entry: NameEntry) -> Listed:
        """A row of a listing as the folder has it; see `length`. Whether what stands in for
        something is a link is told by its own record.
        """
        is_link = False
        if entry.has_reparse:
            try:
                point = self._reparse(self.table.record(entry.reference))
                is_link = point is not None and point.tag in _LINKS
            except InputError:
                is_link = False
        is_folder = entry.is_folder and not is_link
        length = 0 if entry.is_folder else entry.bytes or self._own_length(entry.reference)
        return name, length, is_folder, is_link, _ALL_PERMISSIONS

    def _own_length(self, reference: int) -> int:
        """The length by a file's own record, for one that its folder has as empty: nothing that
        may hold something is passed over as empty.
        """
        try:
            return self._length(self.table.record(reference))
        except InputError:
            return -1

    def _entries(self, record: FileRecord, problems: list[Problem]) -> Iterator[NameEntry]:
        root = self.table.stream(record, INDEX_ROOT, INDEX)
        if not record.is_folder or root is None:
            raise DamagedFileError("its record is not that of a folder.")
        value = root.read(0, root.bytes)
        found, wrong = ntfs.index_names(value, 16, record.offset)
        problems += wrong
        yield from found
        size = ntfs.root_block_bytes(value)
        for number, block in self._blocks(record, size, problems):
            whole = None
            if block[:4] == ntfs.INDEX_MAGIC:
                start, count = (int.from_bytes(block[at : at + 2], "little") for at in (4, 6))
                whole = ntfs.undone(block, start, count)
            if whole is None:
                at = number * size
                problems.append(Problem("index-block", at, size, f"block {number} is torn", "INDX"))
                continue
            found, wrong = ntfs.index_names(whole, 24, number * size)
            problems += wrong
            yield from found

    def _blocks(
        self, record: FileRecord, size: int, problems: list[Problem]
    ) -> Iterator[tuple[int, bytes]]:
        """The blocks of a folder's index that are in use."""
        try:
            blocks = self.table.stream(record, INDEX_BLOCKS, INDEX)
            used = self.table.stream(record, INDEX_BITMAP, INDEX)
            if blocks is None:
                return
            if size not in _BLOCK_SIZES or used is None:
                raise InputError(f"blocks of {size} bytes, or nothing says which are in use")
            count = min(blocks.bytes, _BLOCK_BYTES) // size
            marks = used.read(0, -(-count // 8))
        except InputError as error:
            problems.append(Problem("index-lost", record.offset, 0, str(error), "its blocks"))
            return
        for number in range(min(count, 8 * len(marks))):
            if marks[number >> 3] >> (number & 7) & 1:
                try:
                    yield number, blocks.read(number * size, size)
                except InputError as error:
                    problems.append(Problem("index-lost", number * size, size, str(error), "INDX"))

    def _reparse(self, record: FileRecord) -> Reparse | None:
        if record.attribute(REPARSE) is None:
            return None
        stream = self.table.stream(record, REPARSE)
        return ntfs.reparse(stream.read(0, _REPARSE_BYTES)) if stream is not None else None

    def _read_capitals(self) -> dict[int, int]:
        """Letters and their capitals by the volume's own table; empty where that cannot be read."""
        try:
            stream = self.table.stream(self.table.record(_CAPITALS), DATA)
            table = stream.read(0, _CAPITALS_BYTES) if stream is not None else b""
        except InputError:
            return {}
        pairs = enumerate(memoryview(table[: len(table) & ~1]).cast("H"))
        return {letter: capital for letter, capital in pairs if letter != capital}
