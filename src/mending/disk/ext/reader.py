"""Files and folders of an ext volume as a boot manager sees them: journal not replayed, all blocks
of a folder read one after another, checksums judged where the volume keeps them.
"""

from collections.abc import Iterator

from mending.disk.ext.block_map import BlockMap
from mending.disk.ext.volume import ExtVolume
from mending.disk.inodes import InodeReader, Run
from mending.formats.filesystem import ext_folders, ext_inodes
from mending.formats.filesystem.ext_inodes import Inode
from mending.model import ByteOffset, FolderName, InputError, Problem
from mending.source import Source

_FOLDER_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder that are read: a million names."""
_PARENT = 4
"""Bytes in front of the first row of a folder that is kept in its inode."""


class ExtReader(InodeReader[Inode]):
    """One opened volume.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    root = ext_inodes.ROOT

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        super().__init__()
        self._volume = ExtVolume(source, offset)
        self.block_bytes = self._volume.size

    def _inode(self, number: int) -> Inode:
        return self._volume.inode(number)

    def _inline(self, inode: Inode) -> bytes | None:
        if inode.has(ext_inodes.ENCRYPTED):
            raise InputError("it is encrypted by the file system.")
        return inode.inline

    def _runs(self, inode: Inode, blocks: int) -> Iterator[Run]:
        for run in BlockMap(self._volume, inode).runs(blocks):
            place = None if run.start is None else self._volume.place(run.start, run.count)
            yield run.first, run.count, place

    def _bytes(self, offset: int, length: int) -> bytes:
        return self._volume.read(offset, length)

    def _doubts(self, inode: Inode) -> str:
        caseless = inode.has(ext_inodes.CASELESS)
        return "names in it are the same in any case, which is not read" if caseless else ""

    def _names(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderName]:
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
        blocks = -(-min(inode.length, _FOLDER_BYTES) // size)
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
