"""Where the blocks of a file on an ext volume lie: by a tree of extents, or by a map of twelve
blocks and three levels of blocks with further numbers (ext2, ext3).
"""

import struct
from collections.abc import Iterator

from mending.disk.ext.volume import ExtVolume
from mending.formats.filesystem import ext_extents, ext_inodes
from mending.formats.filesystem.ext_extents import Extent, ExtentNode
from mending.formats.filesystem.ext_inodes import Inode
from mending.model import DamagedFileError, Reading, Window

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
        by_extents = self._inode.has(ext_inodes.EXTENTS)
        at = 0
        for run in self._extents() if by_extents else self._numbers(blocks):
            if run.first >= blocks:
                return
            if run.first < at or not run.count:
                raise DamagedFileError(f"its map names block {run.first} twice.")
            at = run.first + run.count
            yield run

    def _extents(self) -> Iterator[Extent]:
        root = ext_extents.read(Window(self._inode.fields.map))
        yield from self._below(_sound(root))

    def _below(self, node: ExtentNode) -> Iterator[Extent]:
        yield from node.extents
        for _, number in node.children:
            below = _sound(ext_extents.read(self._node(number), self._inode.seed))
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
