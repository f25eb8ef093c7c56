"""Files and folders of an ext volume as a boot manager sees them: journal not replayed, all blocks
of a folder read one after another, checksums judged where the volume keeps them.
"""

from collections.abc import Iterator

from mending.disk.ext.block_map import BlockMap
from mending.disk.ext.volume import ExtVolume
from mending.disk.inodes import InodeReader, Run
from mending.formats.filesystem import ext_folders, ext_index, ext_inodes
from mending.formats.filesystem.ext_inodes import Inode
from mending.model import ByteOffset, FolderName, InputError, Problem, Window
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
        if inode.inline is not None:
            kept = len(inode.fields.map)
            for part in (inode.inline[_PARENT:kept], inode.inline[kept:]):
                yield from self._rows(Window(part), problems)
            return
        blocks = list(self._blocks(inode, problems))
        index = self._index(inode, dict(blocks), problems)
        for number, place in blocks:
            if number in index:
                continue
            window = self._window(place, problems)
            if window is None:
                continue
            yield from self._rows(window, problems)
            if inode.seed is not None:
                fault = ext_folders.checksum_problem(window.data, window.offset, inode.seed)
                problems += [fault] if fault is not None else []

    def _rows(self, window: Window, problems: list[Problem]) -> list[FolderName]:
        has_kinds = self._volume.block.has_kinds
        found, wrong = ext_folders.rows(window.data, window.offset, has_kinds)
        problems += wrong
        return found

    def _blocks(self, inode: Inode, problems: list[Problem]) -> Iterator[tuple[int, int | None]]:
        """The blocks of a folder: number within it and on the volume."""
        size = self._volume.size
        if inode.length > _FOLDER_BYTES:
            found = f"{inode.length} bytes"
            problems.append(Problem("folder-long", 0, 0, found, f"at most {_FOLDER_BYTES}"))
        blocks = -(-min(inode.length, _FOLDER_BYTES) // size)
        try:
            for run in BlockMap(self._volume, inode).runs(blocks):
                for at in range(min(run.count, blocks - run.first)):
                    yield run.first + at, None if run.start is None else run.start + at
        except InputError as error:
            problems.append(Problem("folder-lost", 0, 0, str(error), "its blocks"))

    def _index(
        self, inode: Inode, blocks: dict[int, int | None], problems: list[Problem]
    ) -> set[int]:
        """Which blocks of a folder are root and nodes of its hash tree, where it has one: they hold
        no names and have a checksum of their own.
        """
        has_one = inode.has(ext_inodes.INDEXED) and self._volume.block.has_indexes
        window = self._window(blocks.get(0), problems) if has_one and 0 in blocks else None
        if window is None:
            return set()
        root = ext_index.read_root(window, inode.seed)
        problems += root.problems
        found, level = {0}, root.record.blocks
        for _ in range(root.record.levels):
            below = list[int]()
            for number in level:
                window = self._window(blocks.get(number), problems)
                if number in found or window is None:
                    continue
                found.add(number)
                node = ext_index.read_node(window, inode.seed)
                problems += node.problems
                below += node.record.blocks
            level = tuple(below)
        return found

    def _window(self, number: int | None, problems: list[Problem]) -> Window | None:
        """A block of a folder; one that was never written, or cannot be read, hides its names."""
        why = "never written"
        try:
            if number is not None:
                return self._volume.window(number)
        except InputError as error:
            why = str(error)
        at = (number or 0) * self._volume.size
        problems.append(Problem("folder-lost", at, 0, why, "a block"))
        return None
