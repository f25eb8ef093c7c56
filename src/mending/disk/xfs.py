"""An XFS volume as blocks, inodes by number, and where the blocks of a file lie.

Numbers are no plain indexes: the upper bits of a block's number are its group, the lower ones the
block inside it; an inode's number has the row inside its block below these. So a place follows from
the number alone, without a table of inodes, and a number whose group or block cannot be is damage.
The places of a file's blocks are a list in its inode or, where that is too long, a tree whose root
is in the inode; both give runs in the order of the file, and what lies in no run is a hole.
"""

from collections.abc import Iterator

from mending.disk.inodes import InodeReader, Run
from mending.formats import xfs as xfs
from mending.formats import xfs as xfs_folders
from mending.formats.xfs import Extent, Inode, Node
from mending.model import ByteOffset, DamagedFileError, FolderName, InputError, Problem, Window
from mending.source import Source

_MOST_NODES = 4096
"""Blocks with rows of extents that are read for one file."""
_MOST_LEVELS = 9


class XfsVolume:
    """One opened volume. What its log holds is not replayed: boot managers do not do so.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    def __init__(self, source: Source, offset: int) -> None:
        head = source.read(offset, xfs.SIZE)
        if len(head) < xfs.SIZE:
            raise InputError("The superblock is cut off.")
        self.block = xfs.SUPERBLOCK.read(head, 0)
        self._source, self._offset = source, offset
        if not self.block.makes_sense:
            raise InputError("The superblock does not tell the size of blocks and inodes.")
        if self.block.unknown_features:
            says = f"The volume uses features that are not known: {self.block.unknown_features:x}."
            raise InputError(says)
        self.size = self.block.block_size

    def inode(self, number: int) -> Inode:
        """An inode.

        Raises:
            DamagedFileError: it is damaged, or not in use. ReadError.
        """
        at = self.inode_place(number)
        window = Window(self.read(at, self.block.inode_size), self._offset + at)
        reading = xfs.read_inode(window, number, self.block.has_checksums)
        if reading.problems:
            problem = reading.problems[0]
            says = f"its inode {number} is damaged: {problem.code}, {problem.found}."
            raise DamagedFileError(says)
        return reading.record

    def inode_place(self, number: int) -> int:
        """Where an inode is, in bytes from the start of the volume; its number holds group and
        block.

        Raises:
            DamagedFileError: it is not on the volume.
        """
        block = self.block
        bits = block.group_log + block.inodes_log
        group, within = number >> bits, number & (1 << bits) - 1
        row, place = within >> block.inodes_log, within & (1 << block.inodes_log) - 1
        if number <= 0 or group >= block.groups or row >= block.group_blocks:
            raise DamagedFileError(f"its inode {number} is not on the volume.")
        return (group * block.group_blocks + row) * self.size + place * block.inode_size

    def place(self, number: int) -> int:
        """Where a block is, in bytes from the start of the volume; its number holds its group.

        Raises:
            DamagedFileError: it is not on the volume.
        """
        group, within = number >> self.block.group_log, number & (1 << self.block.group_log) - 1
        at = group * self.block.group_blocks + within
        if group >= self.block.groups or at >= self.block.blocks:
            raise DamagedFileError(f"block {number} is not on the volume.")
        return at * self.size

    def window(self, number: int, count: int = 1) -> Window:
        """Blocks that lie together. Raises InputError, ReadError."""
        at = self.place(number)
        return Window(self.read(at, count * self.size), self._offset + at)

    def runs(self, inode: Inode, blocks: int) -> Iterator[Extent]:
        """Where the first blocks of a file lie, in order; what is in no run is a hole.

        Args:
            blocks: how many of them are wanted; the last run may hold more.

        Raises:
            InputError: the extents are damaged. ReadError.
        """
        at = 0
        for run in self._extents(inode):
            if run.first >= blocks:
                return
            if run.first < at or not run.count:
                raise DamagedFileError(f"its extents name block {run.first} twice.")
            at = run.first + run.count
            yield run

    def _extents(self, inode: Inode) -> Iterator[Extent]:
        if inode.format == xfs.EXTENTS:
            yield from xfs.extents(inode.fork, inode.extents)
        elif inode.format == xfs.TREE:
            yield from self._below(xfs.root_node(inode.fork), set(), _MOST_LEVELS)
        else:
            raise DamagedFileError(f"its data are kept in a way that is not known: {inode.format}.")

    def _below(self, node: Node, seen: set[int], levels: int) -> Iterator[Extent]:
        yield from node.extents
        for number in node.children:
            if number in seen or len(seen) >= _MOST_NODES or not levels:
                raise DamagedFileError(f"its extents go in circles, or are too many, at {number}.")
            seen.add(number)
            reading = xfs.node(self.window(number), self.block.has_checksums)
            if reading.problems or reading.record.level != node.level - 1:
                raise DamagedFileError(f"block {number} of its extents is damaged.")
            yield from self._below(reading.record, seen, levels - 1)

    def read(self, offset: int, length: int) -> bytes:
        """Bytes of the volume, all of them. Raises InputError."""
        data = self._source.read(self._offset + offset, length).data
        if len(data) < length:
            raise InputError("it lies behind the end of the disk.")
        return data


# Files and folders of an XFS volume: all blocks of names read one after another, the tree of
# hashes beside them left alone.


_HASHES_FROM = 1 << 35
"""Byte of a folder from which on hashes of names follow instead of names."""
_FOLDER_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder that are read: a million names."""
_LINK_BYTES, _LINK_MAGIC, _LINK_HEAD = 8192, b"XSLM", 56


class XfsReader(InodeReader[Inode]):
    """One opened volume.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        super().__init__()
        self._volume = XfsVolume(source, offset)
        self.root, self.block_bytes = self._volume.block.root, self._volume.size

    def _inode(self, number: int) -> Inode:
        return self._volume.inode(number)

    def _inline(self, inode: Inode) -> bytes | None:
        return inode.fork if inode.format == xfs.LOCAL else None

    def _runs(self, inode: Inode, blocks: int) -> Iterator[Run]:
        for run in self._volume.runs(inode, blocks):
            place = None if run.start is None else self._volume.place(run.start)
            yield run.first, run.count, place

    def _bytes(self, offset: int, length: int) -> bytes:
        return self._volume.read(offset, length)

    def _target(self, inode: Inode) -> bytes:
        """The target of a link; in blocks, each has a head where there are checksums."""
        if inode.format == xfs.LOCAL:
            return inode.fork[: inode.length]
        parts, size = [], self.block_bytes
        for run in self._volume.runs(inode, -(-_LINK_BYTES // size)):
            for at in range(min(run.count, _LINK_BYTES // size) if run.start is not None else 0):
                data = self._volume.window((run.start or 0) + at).data
                parts.append(data[_LINK_HEAD:] if data[:4] == _LINK_MAGIC else data)
        return b"".join(parts)[: inode.length]

    def _names(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderName]:
        kinds = self._volume.block.has_kinds
        if inode.format == xfs.LOCAL:
            yield from xfs_folders.short_rows(inode.fork[: inode.length], kinds)
            return
        for base, block in self._blocks(inode, problems):
            found, wrong = xfs_folders.folder_rows(block, base, kinds)
            yield from found
            problems += wrong

    def _blocks(self, inode: Inode, problems: list[Problem]) -> Iterator[tuple[int, bytes]]:
        """The blocks of names of a folder, each with its absolute offset."""
        size, together = self._volume.size, 1 << self._volume.block.folder_log
        most = min(inode.length, _FOLDER_BYTES, _HASHES_FROM) // size
        try:
            for run in self._volume.runs(inode, most):
                for at in range(0, min(run.count, most - run.first), together):
                    if run.start is None:
                        raise InputError("a block of names was never written.")
                    window = self._volume.window(run.start + at, together)
                    yield window.offset, window.data
        except InputError as error:
            problems.append(Problem("folder-lost", 0, 0, str(error), "its blocks"))
