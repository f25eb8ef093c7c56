"""A Btrfs volume as trees of items, by logical addresses.

Nothing in Btrfs names a place on the disk: all addresses are logical, and chunks map stretches of
them to the disk. The map itself is a tree that is found by logical addresses. What breaks that
circle are the few chunks that stand in the superblock: with them the tree of chunks is read, with
that everything else. A tree is walked from the root by keys, and of every node only the children
are followed whose keys can lie in the range that is asked for; levels and nodes are counted, so
that a tree made to go in circles ends.
"""

import zlib
from bisect import bisect_right
from collections.abc import Iterator
from itertools import islice

from mending.disk.inodes import InodeReader, Run
from mending.formats import btrfs
from mending.formats.btrfs import Chunk, ExtentItem, Inode, Key, Node
from mending.model import (
    ByteOffset,
    DamagedFileError,
    FolderName,
    InputError,
    Problem,
    Window,
    load_unpacker,
)
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
        head = source.read(offset + btrfs.SUPERBLOCK_AT, btrfs.SUPERBLOCK_BYTES).data
        block = btrfs.read_superblock(head)
        if block is None:
            raise InputError("The superblock makes no sense.")
        if block.incompatible & ~_KNOWN:
            unknown = block.incompatible & ~_KNOWN
            raise InputError(f"The volume uses features that are not known: {unknown:x}.")
        if block.devices != 1:
            raise InputError(f"The volume lies on {block.devices} devices, which is not read.")
        self.block, self._source, self._offset = block, source, offset
        self._chunks: list[Chunk] = sorted(
            btrfs.first_chunks(block.first_chunks), key=lambda each: each.start
        )
        self._starts = [each.start for each in self._chunks]
        self._nodes: dict[int, Node] = {}
        found = {each.start: each for each in self._chunks}
        for key, raw in self.items(block.chunk_root, (0, 0, 0), (1 << 64, 255, 1 << 64)):
            if key[1] == btrfs.CHUNK and len(found) < _MOST_CHUNKS:
                each = btrfs.chunk(key[2], raw)
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
            reading = btrfs.read_node(window, address, self.block.sums)
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
        first, last = (number, btrfs.ROOT, 0), (number, btrfs.ROOT, 1 << 64)
        for _, raw in self.items(self.block.root, first, last):
            address = btrfs.root_address(raw)
            if address:
                return address
        raise DamagedFileError(f"its tree {number} is not there.")

    def default_tree(self) -> int:
        """The number of the subvolume that is mounted where none is named."""
        first = (btrfs.ROOT_FOLDER, btrfs.DIRECTORY, 0)
        last = (btrfs.ROOT_FOLDER, btrfs.DIRECTORY, 1 << 64)
        for _, raw in self.items(self.block.root, first, last):
            for name in btrfs.names(raw):
                if name.name == b"default":
                    return name.object
        return btrfs.TOP_TREE


# Files and folders of a Btrfs volume: subvolumes are folders of the one that holds them, as boot
# managers see them, or one of them counts as the whole, as a system sees its root.


_TREE = 64
"""An inode is known by the number of its tree, in the bits from here on, and its own."""
_MOST_EXTENTS = 262_144
_MOST_PACKED = 16 * 1024 * 1024
"""Bytes of packed extents that are unpacked at a time."""
DEFAULT = "*"
"""As a top: the subvolume that is mounted where none is named."""
_MOST_SUBVOLUMES = 64


class BtrfsReader(InodeReader[Inode]):
    """One opened volume.

    Args:
        top: path of the subvolume that counts as the whole; empty for the uppermost, `DEFAULT`.

    Raises:
        InputError: it cannot be read, or has no such subvolume.
    """

    def __init__(self, source: Source, offset: ByteOffset, top: str = "") -> None:
        super().__init__()
        self._volume = BtrfsVolume(source, offset)
        self.block_bytes = self._volume.block.sector
        self._roots: dict[int, int] = {}
        self.root = btrfs.TOP_TREE << _TREE | btrfs.FIRST_INODE
        if top == DEFAULT:
            self.root = self._volume.default_tree() << _TREE | btrfs.FIRST_INODE
        elif top:
            self.root = self._find(top)

    def tops(self) -> list[str]:
        """The subvolumes that a system may take for its whole, the likeliest first: the default
        one, those in the uppermost, the uppermost.
        """
        inside = self._folder(self.root).inodes
        apart = [name for name, number in inside.items() if number >> _TREE != self.root >> _TREE]
        default = self._volume.default_tree() != btrfs.TOP_TREE
        return [*([DEFAULT] if default else []), *apart[:_MOST_SUBVOLUMES], ""]

    def is_packed(self, path: str) -> bool:
        """Whether a part of a file is kept compressed."""
        found = self._parts(self._at(path))
        return any(part.packed != btrfs.PLAIN for _, part in islice(found, _MOST_EXTENTS))

    def extents(self, path: str) -> list[tuple[int, int]] | None:
        """See `InodeReader.extents`; checksums of content make any change in place a fault, so
        there are none.
        """
        self._at(path)
        return None

    def _inode(self, number: int) -> Inode:
        tree, own = number >> _TREE, number & (1 << _TREE) - 1
        key = (own, btrfs.INODE, 0)
        for _, raw in self._volume.items(self._root(tree), key, key):
            found = btrfs.inode(raw, number)
            if found is not None:
                return found
        raise DamagedFileError(f"its inode {own} is not in tree {tree}.")

    def _root(self, tree: int) -> int:
        if tree not in self._roots:
            self._roots[tree] = self._volume.root_of(tree)
        return self._roots[tree]

    def _names(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderName]:
        tree, own = inode.number >> _TREE, inode.number & (1 << _TREE) - 1
        first, last = (own, btrfs.INDEX, 0), (own, btrfs.INDEX, 1 << 64)
        try:
            for _, raw in self._volume.items(self._root(tree), first, last):
                for name in btrfs.names(raw):
                    number = tree << _TREE | name.object
                    if name.is_subvolume:
                        number = name.object << _TREE | btrfs.FIRST_INODE
                    yield FolderName(number, name.name, name.kind)
        except InputError as error:
            problems.append(Problem("folder-lost", 0, 0, str(error), "its items"))

    def _inline(self, inode: Inode) -> bytes | None:  # noqa: ARG002 - extents are all alike here
        return None

    def _runs(self, inode: Inode, blocks: int) -> Iterator[Run]:  # noqa: ARG002
        """Not asked: content is put together in `_content`."""
        return iter(())

    def _bytes(self, offset: int, length: int) -> bytes:
        return self._volume.read(offset, length)

    def _content(self, inode: Inode, length: int) -> bytes:
        length = min(max(length, 0), inode.length)
        data, unpacked = bytearray(length), 0
        for at, part in self._parts(inode):
            if at >= length:
                break
            wanted = min(part.length, length - at)
            if part.packed != btrfs.PLAIN:
                unpacked += part.unpacked
                if unpacked > _MOST_PACKED:
                    raise InputError("it is packed, and more of it than is unpacked at a time.")
            piece = self._piece(part, wanted)
            data[at : at + len(piece)] = piece
        return bytes(data)

    def _parts(self, inode: Inode) -> Iterator[tuple[int, ExtentItem]]:
        tree, own = inode.number >> _TREE, inode.number & (1 << _TREE) - 1
        first, last = (own, btrfs.EXTENT, 0), (own, btrfs.EXTENT, 1 << 64)
        for key, raw in self._volume.items(self._root(tree), first, last):
            part = btrfs.extent(raw)
            if part is None:
                raise DamagedFileError("where a part of it lies is cut off.")
            yield key[2], part

    def _piece(self, part: ExtentItem, wanted: int) -> bytes:
        """What a file shows of a part; nothing where it reads as zeros."""
        if part.kind == btrfs.INLINE:
            return self._unpacked(part.data, part)[:wanted]
        if part.kind != btrfs.REGULAR or not part.address:
            return b""
        if part.packed == btrfs.PLAIN:
            return self._volume.read(part.address + part.skip, wanted)
        if part.unpacked > _MOST_PACKED or part.kept > _MOST_PACKED:
            raise DamagedFileError(f"a packed part of it has {part.unpacked} bytes.")
        whole = self._unpacked(self._volume.read(part.address, part.kept), part)
        return whole[part.skip : part.skip + wanted]

    def _unpacked(self, data: bytes, part: ExtentItem) -> bytes:
        most = min(part.unpacked, _MOST_PACKED)
        try:
            if part.packed == btrfs.PLAIN:
                return data
            if part.packed == btrfs.ZLIB:
                return zlib.decompressobj().decompress(data, most)
            if part.packed == btrfs.LZO:
                return btrfs.unpack_lzo_segments(data, most, self.block_bytes)
            if part.packed == btrfs.ZSTD:
                reader = load_unpacker("zstandard").ZstdDecompressor().stream_reader(data)
                unpacked: bytes = reader.read(most)
                return unpacked
        except zlib.error as error:
            raise DamagedFileError(f"a packed part of it is damaged: {error}.") from error
        except Exception as error:  # the library's own error class, known only once it is loaded
            if type(error).__module__.startswith(("zstandard", "zstd")):
                raise DamagedFileError(f"a packed part of it is damaged: {error}.") from error
            raise
        raise DamagedFileError(f"a part of it is packed in a way that is not known: {part.packed}.")
