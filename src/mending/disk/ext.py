"""An ext volume as blocks and inodes by number.

The volume is cut into groups of blocks. Each group has a descriptor, which says where its table of
inodes begins; an inode's number, less one, divided by the inodes of a group gives group and row.
Where descriptors stand depends on how the volume was made, so that is asked of the superblock and
never assumed. Inodes are read a chunk of their table at a time, for neighbours are mostly wanted
next; where a sector of a chunk cannot be read, the one row is tried alone, since it may lie beside
the damage.
"""

import struct
from collections.abc import Iterator

from mending.disk.inodes import InodeReader, Run
from mending.formats import ext
from mending.formats.ext import Extent, ExtentNode, Inode
from mending.model import (
    ByteOffset,
    DamagedFileError,
    FolderName,
    InputError,
    Problem,
    Reading,
    Window,
)
from mending.source import Source

_CHUNK_BYTES = 16_384
"""Of an inode table read at a time: 64 inodes of the usual size."""
_CHUNKS_KEPT = 512
_INODE_SIZES = range(ext.LEAST_INODE, 65_537)
_DESCRIPTOR_SIZES = range(32, 1025)


class ExtVolume:
    """One opened volume. What its journal holds is not replayed: boot managers do not do so.

    Args:
        block: a copy of the superblock that stands in for the first one.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    def __init__(self, source: Source, offset: int, block: ext.Superblock | None = None) -> None:
        self.block = block or ext.read(source.read(offset, ext.SUPERBLOCK_OFFSET + ext.SIZE)).record
        self._source, self._offset = source, offset
        self.size, self.seed = self.block.block_size, self.block.seed
        if self.block.unknown_features:
            says = f"The volume uses features that are not known: {self.block.unknown_features:x}."
            raise InputError(says)
        sizes = self.block.inode_bytes in _INODE_SIZES
        groups = self.block.group_bytes in _DESCRIPTOR_SIZES
        if not self.size or not sizes or not groups or self.block.inode_bytes > self.size:
            raise InputError("The superblock does not tell the size of blocks and inodes.")
        if not self.block.inodes_per_group or not self.block.blocks_per_group:
            raise InputError("The superblock does not tell the size of a group of blocks.")
        self._rows = max(_CHUNK_BYTES // self.block.inode_bytes, 1)
        self._tables: dict[int, int] = {}
        self._chunks: dict[tuple[int, int], bytes] = {}

    def inode(self, number: int) -> Inode:
        """An inode.

        Raises:
            DamagedFileError: it is damaged, or not in use.
            ReadError: it cannot be read.
        """
        if not 0 < number <= self.block.inodes:
            raise DamagedFileError(f"its inode {number} is not on the volume.")
        group, row = divmod(number - 1, self.block.inodes_per_group)
        chunk, within = divmod(row, self._rows)
        size = self.block.inode_bytes
        data = self._chunk(group, chunk)[within * size : (within + 1) * size]
        at = self._table(group) + row * size
        if len(data) < size:  # a sector of the chunk cannot be read: perhaps not this one
            data = self.read(at, size)
        reading = ext.read_inode(Window(data, self._offset + at), number, self.seed)
        if reading.problems:
            problem = reading.problems[0]
            says = f"its inode {number} is damaged: {problem.code}, {problem.found}."
            raise DamagedFileError(says)
        return reading.record

    def window(self, number: int) -> Window:
        """One block.

        Raises:
            InputError: it lies behind the end of the volume. ReadError.
        """
        if not 0 < number < self.block.blocks:
            raise DamagedFileError(f"block {number} is not on the volume.")
        return Window(self.read(number * self.size, self.size), self._offset + number * self.size)

    def place(self, number: int, count: int) -> int:
        """Where blocks that lie together are, in bytes from the start of the volume.

        Raises:
            DamagedFileError: they are not on it.
        """
        if not 0 < number <= number + count <= self.block.blocks:
            raise DamagedFileError(f"blocks {number} to {number + count} are not on the volume.")
        return number * self.size

    def _table(self, group: int) -> int:
        """Where a group's inode table starts, in bytes from the start of the volume."""
        if group not in self._tables:
            size = self.block.group_bytes
            number, at = divmod(group, self.size // size)
            place = self.block.descriptor_block(number) * self.size + at * size
            self._tables[group] = ext.table_block(self.read(place, size)) * self.size
        return self._tables[group]

    def _chunk(self, group: int, chunk: int) -> bytes:
        if (group, chunk) not in self._chunks:
            if len(self._chunks) >= _CHUNKS_KEPT:
                self._chunks.pop(next(iter(self._chunks)))
            self._chunks[group, chunk] = self._read_chunk(group, chunk)
        return self._chunks[group, chunk]

    def _read_chunk(self, group: int, chunk: int) -> bytes:
        length = self._rows * self.block.inode_bytes
        try:
            return self._source.read(
                self._offset + self._table(group) + chunk * length, length
            ).data
        except InputError:
            return b""

    def read(self, offset: int, length: int) -> bytes:
        """Bytes of the volume, all of them. Raises InputError."""
        data = self._source.read(self._offset + offset, length).data
        if len(data) < length:
            raise InputError("it lies behind the end of the disk.")
        return data


# Where the blocks of a file on an ext volume lie: by a tree of extents, or by a map of twelve
# blocks and three levels of blocks with further numbers (ext2, ext3).


_DIRECT, _LEVELS = 12, 3
_MOST_NODES = 4096
"""Blocks with numbers of blocks that are read for one file: those of 16 GiB without extents."""


class BlockMap:
    """The map of one file."""

    def __init__(self, volume: ExtVolume, inode: Inode) -> None:
        self._volume, self._inode = volume, inode
        self._seen: set[int] = set()

    def runs(self, blocks: int) -> Iterator[Extent]:
        """Where its first blocks lie, in order; what is in no run is a hole.

        Args:
            blocks: how many of them are wanted; the last run may hold more.

        Raises:
            InputError: the map is damaged. ReadError.
        """
        by_extents = self._inode.has(ext.EXTENTS)
        at = 0
        for run in self._extents() if by_extents else self._numbers(blocks):
            if run.first >= blocks:
                return
            if run.first < at or not run.count:
                raise DamagedFileError(f"its map names block {run.first} twice.")
            at = run.first + run.count
            yield run

    def _extents(self) -> Iterator[Extent]:
        root = ext.read_extents(Window(self._inode.fields.map))
        yield from self._below(_sound(root))

    def _below(self, node: ExtentNode) -> Iterator[Extent]:
        yield from node.extents
        for _, number in node.children:
            below = _sound(ext.read_extents(self._node(number), self._inode.seed))
            if below.depth != node.depth - 1:
                raise DamagedFileError(f"block {number} of its map is of another level.")
            yield from self._below(below)

    def _numbers(self, blocks: int) -> Iterator[Extent]:
        pointers = struct.unpack("<15I", self._inode.fields.map)
        run: Extent | None = None
        for first, number in self._leaves(pointers, blocks):
            if run is not None and run.start is not None:
                if first == run.first + run.count and number == run.start + run.count:
                    run = Extent(run.first, run.count + 1, run.start)
                    continue
                yield run
            run = Extent(first, 1, number)
        if run is not None:
            yield run

    def _leaves(self, pointers: tuple[int, ...], blocks: int) -> Iterator[tuple[int, int]]:
        """Pairs of number within the file and on the volume."""
        yield from ((at, number) for at, number in enumerate(pointers[:_DIRECT]) if number)
        each, at = self._volume.size // 4, _DIRECT
        for level in range(_LEVELS):
            if at < blocks:
                yield from self._level(pointers[_DIRECT + level], level, at, blocks)
            at += each ** (level + 1)

    def _level(self, number: int, level: int, at: int, blocks: int) -> Iterator[tuple[int, int]]:
        if not number:
            return
        each = self._volume.size // 4
        span = each**level
        numbers = struct.unpack(f"<{each}I", self._node(number).data)
        for row, below in enumerate(numbers):
            first = at + row * span
            if first >= blocks:
                return
            if below and level:
                yield from self._level(below, level - 1, first, blocks)
            elif below:
                yield first, below

    def _node(self, number: int) -> Window:
        if number in self._seen or len(self._seen) >= _MOST_NODES:
            raise DamagedFileError(f"its map goes in circles, or is too long, at block {number}.")
        self._seen.add(number)
        return self._volume.window(number)


def _sound(reading: Reading[ExtentNode]) -> ExtentNode:
    if reading.problems:
        problem = reading.problems[0]
        says = f"its map is damaged: {problem.code}, {problem.found} at {problem.offset}."
        raise DamagedFileError(says)
    return reading.record


# Files and folders of an ext volume as a boot manager sees them: journal not replayed, all blocks
# of a folder read one after another, checksums judged where the volume keeps them.


_FOLDER_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder that are read: a million names."""
_PARENT = 4
"""Bytes in front of the first row of a folder that is kept in its inode."""


class ExtReader(InodeReader[Inode]):
    """One opened volume.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    root = ext.ROOT_INODE

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        super().__init__()
        self._volume = ExtVolume(source, offset)
        self.block_bytes = self._volume.size

    def _inode(self, number: int) -> Inode:
        return self._volume.inode(number)

    def _inline(self, inode: Inode) -> bytes | None:
        if inode.has(ext.ENCRYPTED):
            raise InputError("it is encrypted by the file system.")
        return inode.inline

    def _runs(self, inode: Inode, blocks: int) -> Iterator[Run]:
        for run in BlockMap(self._volume, inode).runs(blocks):
            place = None if run.start is None else self._volume.place(run.start, run.count)
            yield run.first, run.count, place

    def _bytes(self, offset: int, length: int) -> bytes:
        return self._volume.read(offset, length)

    def _doubts(self, inode: Inode) -> str:
        caseless = inode.has(ext.CASELESS)
        return "names in it are the same in any case, which is not read" if caseless else ""

    def _names(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderName]:
        if inode.has(ext.ENCRYPTED):
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
                fault = ext.folder_checksum_problem(window.data, window.offset, inode.seed)
                problems += [fault] if fault is not None else []

    def _rows(self, window: Window, problems: list[Problem]) -> list[FolderName]:
        has_kinds = self._volume.block.has_kinds
        found, wrong = ext.folder_rows(window.data, window.offset, has_kinds)
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
        has_one = inode.has(ext.INDEXED) and self._volume.block.has_indexes
        window = self._window(blocks.get(0), problems) if has_one and 0 in blocks else None
        if window is None:
            return set()
        root = ext.read_index_root(window, inode.seed)
        problems += root.problems
        found, level = {0}, root.record.blocks
        for _ in range(root.record.levels):
            below = list[int]()
            for number in level:
                window = self._window(blocks.get(number), problems)
                if number in found or window is None:
                    continue
                found.add(number)
                node = ext.read_index_node(window, inode.seed)
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
