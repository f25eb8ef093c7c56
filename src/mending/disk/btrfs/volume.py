"""A Btrfs volume as trees of items, by logical addresses.

Nothing in Btrfs names a place on the disk: all addresses are logical, and chunks map stretches of
them to the disk. The map itself is a tree that is found by logical addresses. What breaks that
circle are the few chunks that stand in the superblock: with them the tree of chunks is read, with
that everything else. A tree is walked from the root by keys, and of every node only the children
are followed whose keys can lie in the range that is asked for; levels and nodes are counted, so
that a tree made to go in circles ends.
"""

from bisect import bisect_right
from collections.abc import Iterator

from mending.formats.btrfs import items, tree
from mending.formats.btrfs.tree import Chunk, Key, Node
from mending.model import DamagedFileError, InputError, Window
from mending.source import Source

_KNOWN = 0x1 | 0x2 | 0x4 | 0x8 | 0x10 | 0x20 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x800 | 0x1000
_BLOCK_GROUP_TREE = 0x800
_MOST_NODES = 4096
"""Nodes of one question: a folder of half a million names."""
_MOST_CHUNKS = 65_536
_NODES_KEPT = 256
_MOST_LEVELS = 8


class BtrfsVolume:
    """One opened volume. What its log tree holds is not replayed: boot managers do not do so.

    Raises:
        InputError: its superblock makes no sense, or it lies on several devices.
    """

    def __init__(self, source: Source, offset: int) -> None:
        head = source.read(offset + tree.SUPERBLOCK_AT, tree.SUPERBLOCK_BYTES).data
        block = tree.read_superblock(head)
        if block is None:
            raise InputError("The superblock makes no sense.")
        if block.incompatible & ~_KNOWN:
            unknown = block.incompatible & ~_KNOWN
            raise InputError(f"The volume uses features that are not known: {unknown:x}.")
        if block.devices != 1:
            raise InputError(f"The volume lies on {block.devices} devices, which is not read.")
        self.block, self._source, self._offset = block, source, offset
        self._chunks: list[Chunk] = sorted(
            tree.first_chunks(block.first_chunks), key=lambda each: each.start
        )
        self._starts = [each.start for each in self._chunks]
        self._nodes: dict[int, Node] = {}
        found = {each.start: each for each in self._chunks}
        for key, raw in self.items(block.chunk_root, (0, 0, 0), (1 << 64, 255, 1 << 64)):
            if key[1] == items.CHUNK and len(found) < _MOST_CHUNKS:
                each = tree.chunk(key[2], raw)
                found |= {each.start: each} if each is not None else {}
        self._chunks = [found[start] for start in sorted(found)]
        self._starts = sorted(found)

    def items(self, root: int, first: Key, last: Key) -> Iterator[tuple[Key, bytes]]:
        """The items of a tree from one key to another, in order.

        Raises:
            DamagedFileError: a node on the way is damaged. ReadError.
        """
        waiting, seen = [(root, _MOST_LEVELS)], 0
        while waiting:
            address, levels = waiting.pop()
            seen += 1
            if seen > _MOST_NODES or not levels:
                raise DamagedFileError("its tree goes in circles, or is too large.")
            node = self.node(address)
            if not node.level:
                yield from (item for item in node.items if first <= item[0] <= last)
                continue
            keys = [key for key, _ in node.children]
            start = max(bisect_right(keys, first) - 1, 0)
            below = [(child, levels - 1) for key, child in node.children[start:] if key <= last]
            waiting += reversed(below)

    def node(self, address: int) -> Node:
        """A node of a tree. Raises DamagedFileError, ReadError."""
        if address not in self._nodes:
            data = self.read(address, self.block.node)
            window = Window(data, self._offset + self.place(address))
            reading = tree.read_node(window, address, self.block.sums)
            if reading.problems:
                problem = reading.problems[0]
                says = f"a node of its tree is damaged: {problem.code}, {problem.found}"
                raise DamagedFileError(f"{says}, at {problem.offset}.")
            if len(self._nodes) >= _NODES_KEPT:
                self._nodes.pop(next(iter(self._nodes)))
            self._nodes[address] = reading.record
        return self._nodes[address]

    def place(self, address: int) -> int:
        """Where a logical address is, in bytes from the start of the volume.

        Raises:
            DamagedFileError: in no chunk, or in one that is spread over devices.
        """
        number = bisect_right(self._starts, address) - 1
        if number < 0 or address >= self._chunks[number].start + self._chunks[number].length:
            raise DamagedFileError(f"the address {address:x} is in no chunk.")
        chunk = self._chunks[number]
        for device, offset in chunk.stripes:
            if chunk.is_plain and device == self.block.device:
                return offset + address - chunk.start
        raise DamagedFileError("it is spread over devices in a way that is not read.")

    def read(self, address: int, length: int) -> bytes:
        """Bytes at a logical address, all of them. Raises InputError."""
        data = self._source.read(self._offset + self.place(address), length).data
        if len(data) < length:
            raise InputError("it lies behind the end of the disk.")
        return data

    def root_of(self, number: int) -> int:
        """The address of the root of a tree by its number.

        Raises:
            DamagedFileError: there is none.
        """
        first, last = (number, items.ROOT, 0), (number, items.ROOT, 1 << 64)
        for _, raw in self.items(self.block.root, first, last):
            address = items.root_address(raw)
            if address:
                return address
        raise DamagedFileError(f"its tree {number} is not there.")

    def default_tree(self) -> int:
        """The number of the subvolume that is mounted where none is named."""
        first = (items.ROOT_FOLDER, items.DIRECTORY, 0)
        last = (items.ROOT_FOLDER, items.DIRECTORY, 1 << 64)
        for _, raw in self.items(self.block.root, first, last):
            for name in items.names(raw):
                if name.name == b"default":
                    return name.object
        return items.TOP_TREE
