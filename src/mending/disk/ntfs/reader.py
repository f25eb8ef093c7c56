"""Files and folders of an NTFS volume as the running system sees them.

A folder is listed from all blocks of its index that are in use, not by walking the tree of them: so
a block that is lost or torn hides only the names in itself, and that it may do so is said.
"""

from collections.abc import Iterator

from mending.disk.ntfs.file_table import FileTable
from mending.formats.filesystem import ntfs_index, ntfs_records
from mending.formats.filesystem.ntfs_index import INDEX, NameEntry, Reparse
from mending.formats.filesystem.ntfs_records import (
    DATA,
    INDEX_BITMAP,
    INDEX_BLOCKS,
    INDEX_ROOT,
    REPARSE,
    FileRecord,
)
from mending.model import ByteOffset, DamagedFileError, InputError, Problem, clean_text
from mending.model.limits import FOLDER_ROWS
from mending.source import Source

Listed = tuple[str, int, bool, bool, int]
"""Name, length in bytes, whether it is a folder, whether it is a link, permission bits (all)."""
_ALL_PERMISSIONS = 0o777
_ROOT, _CAPITALS = 5, 10
_CAPITALS_BYTES = 131_072
_BLOCK_SIZES = (512, 1024, 2048, 4096, 8192, 16384, 32768, 65536)
_BLOCK_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder's index that are read: half a million names."""
_REPARSE_BYTES = 16 * 1024
_LINKS = {ntfs_index.SYMBOLIC_LINK, ntfs_index.MOUNT_POINT}
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
        if point is not None and point.tag == ntfs_index.OVERLAY:
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
        overlaid = point is not None and point.tag == ntfs_index.OVERLAY
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
        found, wrong = ntfs_index.names(value, 16, record.offset)
        problems += wrong
        yield from found
        size = ntfs_index.root_block_bytes(value)
        for number, block in self._blocks(record, size, problems):
            whole = None
            if block[:4] == ntfs_index.MAGIC:
                start, count = (int.from_bytes(block[at : at + 2], "little") for at in (4, 6))
                whole = ntfs_records.undone(block, start, count)
            if whole is None:
                at = number * size
                problems.append(Problem("index-block", at, size, f"block {number} is torn", "INDX"))
                continue
            found, wrong = ntfs_index.names(whole, 24, number * size)
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
        return ntfs_index.reparse(stream.read(0, _REPARSE_BYTES)) if stream is not None else None

    def _read_capitals(self) -> dict[int, int]:
        """Letters and their capitals by the volume's own table; empty where that cannot be read."""
        try:
            stream = self.table.stream(self.table.record(_CAPITALS), DATA)
            table = stream.read(0, _CAPITALS_BYTES) if stream is not None else b""
        except InputError:
            return {}
        pairs = enumerate(memoryview(table[: len(table) & ~1]).cast("H"))
        return {letter: capital for letter, capital in pairs if letter != capital}
