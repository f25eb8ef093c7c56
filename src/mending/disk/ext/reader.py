"""Files and folders of an ext volume as a boot manager sees them: journal not replayed, all blocks
of a folder read one after another, checksums judged where the volume keeps them.
"""

from collections.abc import Iterator

from mending.disk.ext.block_map import BlockMap
from mending.disk.ext.volume import ExtVolume
from mending.formats.filesystem import ext_folders, ext_inodes
from mending.formats.filesystem.ext_folders import FolderRow
from mending.formats.filesystem.ext_inodes import Inode
from mending.model import ByteOffset, DamagedFileError, InputError, Problem, clean_text
from mending.model.limits import FOLDER_ROWS
from mending.source import Source

Listed = tuple[str, int, bool, bool, int]
"""Name, length in bytes (-1: not known), whether it is a folder, whether it is a link, permission
bits.
"""
_STEP_BLOCKS = 256
"""Blocks that are read at a time."""
_FOLDER_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder that are read: a million names."""
_LINK_BYTES = 4096
_MOST_RUNS = 65_536
_PARENT = 4
"""Bytes in front of the first row of a folder that is kept in its inode."""


class _Folder:
    """What a folder holds: rows for whoever lists it, inodes by name, and why names may be
    hidden.
    """

    def __init__(self, rows: list[Listed], inodes: dict[str, int], problems: list[Problem]) -> None:
        self.rows, self.inodes, self.problems = rows, inodes, problems


class ExtReader:
    """One opened volume.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        self._volume = ExtVolume(source, offset)
        self._folders: dict[int, _Folder] = {}

    def listing(self, folder: str) -> list[Listed]:
        """What a folder holds, as far as its blocks can be read."""
        return self._folder(self._find(folder)).rows

    def hidden(self, folder: str) -> str:
        """Why names of a folder may be hidden; empty where none can be."""
        number = self._find(folder)
        problems = self._folder(number).problems
        if problems:
            first = problems[0]
            return f"a block of it is damaged: {first.code}, {first.found}, at {first.offset}"
        inode = self._volume.inode(number)
        caseless = inode.has(ext_inodes.CASELESS)
        return "names in it are the same in any case, which is not read" if caseless else ""

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file.

        Raises:
            DamagedFileError: InputError: ReadError.
        """
        return self._content(self._inode(path), length)

    def extents(self, path: str) -> list[tuple[int, int]] | None:
        """Where a file lies, offset in the volume and length in bytes; None where its bytes do not
        stand on the disk as they read.
        """
        inode, size = self._inode(path), self._volume.size
        if inode.inline is not None or inode.has(ext_inodes.ENCRYPTED):
            return None
        blocks, found, at = -(-inode.bytes // size), list[tuple[int, int]](), 0
        for run in BlockMap(self._volume, inode).runs(blocks):
            if run.start is None or run.first != at or len(found) >= _MOST_RUNS:
                return None
            found.append((run.start * size, run.count * size))
            at += run.count
        return found if at >= blocks else None

    def link(self, path: str) -> str:
        """What a link points at."""
        inode = self._inode(path)
        if not inode.is_link:
            raise InputError(f"{path} is no link.")
        return clean_text(self._content(inode, _LINK_BYTES).decode("utf-8", "replace"), _LINK_BYTES)

    def is_packed(self, path: str) -> bool:  # noqa: ARG002 - the shape is that of all readers
        """These volumes keep files as they are."""
        return False

    def _inode(self, path: str) -> Inode:
        return self._volume.inode(self._find(path))

    def _find(self, path: str) -> int:
        """The number of a file's inode; links are not followed.

        Raises:
            InputError: there is none.
        """
        found = ext_inodes.ROOT
        for name in [part for part in path.split("/") if part]:
            inside = self._folder(found).inodes
            if name not in inside:
                raise InputError(f"There is no {path} on this volume.")
            found = inside[name]
        return found

    def _content(self, inode: Inode, length: int) -> bytes:
        if inode.has(ext_inodes.ENCRYPTED):
            raise InputError("it is encrypted by the file system.")
        length = min(max(length, 0), inode.bytes)
        if inode.inline is not None:
            return inode.inline[:length].ljust(length, b"\0")
        size = self._volume.size
        wanted, data = -(-length // size), bytearray(length)
        for run in BlockMap(self._volume, inode).runs(wanted):
            last = min(run.first + run.count, wanted)
            for at in range(run.first, last, _STEP_BLOCKS) if run.start is not None else ():
                count = min(_STEP_BLOCKS, last - at)
                part = self._volume.blocks((run.start or 0) + at - run.first, count)
                data[at * size : (at + count) * size] = part[: length - at * size]
        return bytes(data)

    def _folder(self, number: int) -> _Folder:
        if number not in self._folders:
            inode = self._volume.inode(number)
            if not inode.is_folder:
                raise DamagedFileError(f"its inode {number} is not that of a folder.")
            rows, inodes, problems = list[Listed](), dict[str, int](), list[Problem]()
            for row in self._rows(inode, problems):
                name = clean_text(row.name.decode("utf-8", "replace"))
                if name in {"", ".", ".."} or "/" in name:
                    continue
                if len(rows) >= FOLDER_ROWS:
                    found = f"more than {FOLDER_ROWS} names"
                    problems.append(Problem("folder-long", 0, 0, found, "fewer"))
                    break
                rows.append(self._listed(name, row))
                inodes.setdefault(name, row.inode)
            self._folders[number] = _Folder(rows, inodes, problems)
        return self._folders[number]

    def _listed(self, name: str, row: FolderRow) -> Listed:
        try:
            inode = self._volume.inode(row.inode)
        except InputError:
            return name, -1, row.is_folder, row.is_link, 0o777
        length = inode.bytes if inode.is_file or inode.is_link else 0
        return name, length, inode.is_folder, inode.is_link, inode.permissions

    def _rows(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderRow]:
        if inode.has(ext_inodes.ENCRYPTED):
            problems.append(Problem("folder-encrypted", 0, 0, "encrypted names", "plain names"))
            return
        for base, block in self._blocks(inode, problems):
            found, wrong = ext_folders.rows(block, base, self._volume.block.has_kinds)
            yield from found
            problems += wrong
            torn = inode.seed is not None and inode.inline is None
            fault = ext_folders.checksum_problem(block, base, inode.seed or 0) if torn else None
            problems += [fault] if fault is not None else []

    def _blocks(self, inode: Inode, problems: list[Problem]) -> Iterator[tuple[int, bytes]]:
        """The blocks of a folder, each with its absolute offset."""
        if inode.inline is not None:
            kept = len(inode.fields.map)
            yield 0, inode.inline[_PARENT:kept]
            yield 0, inode.inline[kept:]
            return
        size = self._volume.size
        blocks = -(-min(inode.bytes, _FOLDER_BYTES) // size)
        try:
            for run in BlockMap(self._volume, inode).runs(blocks):
                for at in range(min(run.count, blocks - run.first)):
                    window = self._window(run.start, at, problems)
                    if window is not None:
                        yield window
        except InputError as error:
            problems.append(Problem("folder-lost", 0, 0, str(error), "its blocks"))

    def _window(
        self, start: int | None, at: int, problems: list[Problem]
    ) -> tuple[int, bytes] | None:
        """A block of a folder; one that was never written, or cannot be read, hides its names."""
        number, why = (start or 0) + at, "never written"
        try:
            if start is not None:
                window = self._volume.window(number)
                return window.offset, window.data
        except InputError as error:
            why = str(error)
        problems.append(Problem("folder-lost", number * self._volume.size, 0, why, "a block"))
        return None
