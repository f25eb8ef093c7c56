"""An ext volume as blocks and inodes by number.

The volume is cut into groups of blocks. Each group has a descriptor, which says where its table of
inodes begins; an inode's number, less one, divided by the inodes of a group gives group and row.
Where descriptors stand depends on how the volume was made, so that is asked of the superblock and
never assumed. Inodes are read a chunk of their table at a time, for neighbours are mostly wanted
next; where a sector of a chunk cannot be read, the one row is tried alone, since it may lie beside
the damage.
"""

from mending.formats.filesystem import ext, ext_inodes
from mending.formats.filesystem.ext_inodes import Inode
from mending.model import DamagedFileError, InputError, Window
from mending.source import Source

_CHUNK_BYTES = 16_384
"""Of an inode table read at a time: 64 inodes of the usual size."""
_CHUNKS_KEPT = 512
_INODE_SIZES = range(ext_inodes.LEAST_SIZE, 65_537)
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
        reading = ext_inodes.read(Window(data, self._offset + at), number, self.seed)
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
            self._tables[group] = ext_inodes.table_block(self.read(place, size)) * self.size
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
