"""Files and folders of a volume made of inodes: folders hold names and numbers, everything else
stands in the inode of that number.

What differs from one file system to the next is asked of the reader of each: an inode by its
number, the names of a folder, where the blocks of a file lie.
"""

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator
from typing import Generic, Protocol, TypeVar

from mending.model import DamagedFileError, FolderName, InputError, Problem, clean_text
from mending.model.limits import FOLDER_ROWS

Listed = tuple[str, int, bool, bool, int]
"""Name, length in bytes (-1: not known), whether it is a folder, whether it is a link, permission
bits.
"""
Run = tuple[int, int, int | None]
"""First block within a file, count, and byte of the volume where they lie; None: they read as
zeros.
"""
LINK_BYTES = 4096
"""Longest target of a link that a kernel takes."""
_STEP_BYTES = 1024 * 1024
"""Bytes that are read at a time."""
_MOST_RUNS = 65_536


class Node(Protocol):
    """An inode."""

    @property
    def length(self) -> int:
        """Bytes of its content."""

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""

    @property
    def is_link(self) -> bool:
        """Whether it is a symbolic link."""

    @property
    def is_file(self) -> bool:
        """Whether it is a plain file."""

    @property
    def permissions(self) -> int:
        """Permission bits."""


N = TypeVar("N", bound=Node)


class _Folder:
    """What a folder holds: rows for whoever lists it, inodes by name, and why names may be
    hidden.
    """

    def __init__(self, rows: list[Listed], inodes: dict[str, int], problems: list[Problem]) -> None:
        self.rows, self.inodes, self.problems = rows, inodes, problems


class InodeReader(ABC, Generic[N]):
    """One opened volume. Paths are from its top; links are not followed."""

    root: int
    block_bytes: int

    def __init__(self) -> None:
        self._folders: dict[int, _Folder] = {}

    @abstractmethod
    def _inode(self, number: int) -> N:
        """An inode. Raises InputError."""

    @abstractmethod
    def _names(self, inode: N, problems: list[Problem]) -> Iterable[FolderName]:
        """The names of a folder, and why some may be hidden."""

    @abstractmethod
    def _inline(self, inode: N) -> bytes | None:
        """Content that is kept in the inode; None where it lies in blocks. Raises InputError."""

    @abstractmethod
    def _runs(self, inode: N, blocks: int) -> Iterator[Run]:
        """Where the first blocks of a file lie, in order. Raises InputError."""

    @abstractmethod
    def _bytes(self, offset: int, length: int) -> bytes:
        """Bytes of the volume, all of them. Raises InputError."""

    def _doubts(self, inode: N) -> str:  # noqa: ARG002 - most file systems have none
        """Why a name that is not found may be there although nothing is damaged."""
        return ""

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
        return self._doubts(self._inode(number))

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file.

        Raises:
            DamagedFileError: InputError: ReadError.
        """
        return self._content(self._at(path), length)

    def extents(self, path: str) -> list[tuple[int, int]] | None:
        """Where a file lies, offset in the volume and length in bytes; None where its bytes do not
        stand on the disk as they read.
        """
        inode, size = self._at(path), self.block_bytes
        if self._inline(inode) is not None:
            return None
        blocks, found, at = -(-inode.length // size), list[tuple[int, int]](), 0
        for first, count, place in self._runs(inode, blocks):
            if place is None or first != at or len(found) >= _MOST_RUNS:
                return None
            found.append((place, count * size))
            at += count
        return found if at >= blocks else None

    def link(self, path: str) -> str:
        """What a link points at."""
        inode = self._at(path)
        if not inode.is_link:
            raise InputError(f"{path} is no link.")
        return clean_text(self._target(inode).decode("utf-8", "replace"), LINK_BYTES)

    def is_packed(self, path: str) -> bool:  # noqa: ARG002 - most keep files as they are
        """Whether the content of a file is kept compressed."""
        return False

    def _target(self, inode: N) -> bytes:
        return self._content(inode, LINK_BYTES)

    def _at(self, path: str) -> N:
        return self._inode(self._find(path))

    def _find(self, path: str) -> int:
        """The number of a file's inode. Raises InputError."""
        found = self.root
        for name in [part for part in path.split("/") if part]:
            inside = self._folder(found).inodes
            if name not in inside:
                raise InputError(f"There is no {path} on this volume.")
            found = inside[name]
        return found

    def _content(self, inode: N, length: int) -> bytes:
        length = min(max(length, 0), inode.length)
        inline = self._inline(inode)
        if inline is not None:
            return inline[:length].ljust(length, b"\0")
        blocks = -(-length // self.block_bytes)
        return filled(length, self.block_bytes, self._runs(inode, blocks), self._bytes)

    def _folder(self, number: int) -> _Folder:
        if number not in self._folders:
            inode = self._inode(number)
            if not inode.is_folder:
                raise DamagedFileError(f"its inode {number} is not that of a folder.")
            rows, inodes, problems = list[Listed](), dict[str, int](), list[Problem]()
            for row in self._names(inode, problems):
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

    def _listed(self, name: str, row: FolderName) -> Listed:
        try:
            inode = self._inode(row.inode)
        except InputError:
            return name, -1, row.is_folder, row.is_link, 0o777
        length = inode.length if inode.is_file or inode.is_link else 0
        return name, length, inode.is_folder, inode.is_link, inode.permissions


def filled(length: int, size: int, runs: Iterable[Run], read: Callable[[int, int], bytes]) -> bytes:
    """Content put together from runs of blocks; what is in no run is zeros.

    Args:
        size: bytes in a block. read: bytes of the volume by offset and length.
    """
    data = bytearray(length)
    for first, count, place in runs:
        end = min((first + count) * size, length)
        for at in range(first * size, end, _STEP_BYTES) if place is not None else ():
            part = read((place or 0) + at - first * size, min(_STEP_BYTES, end - at))
            data[at : at + len(part)] = part
    return bytes(data)
