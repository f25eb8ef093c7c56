"""Files and folders of a Btrfs volume: subvolumes are folders of the one that holds them, as boot
managers see them, or one of them counts as the whole, as a system sees its root.
"""

import zlib
from collections.abc import Iterator
from itertools import islice

from mending.disk.btrfs.volume import BtrfsVolume
from mending.disk.inodes import InodeReader, Run
from mending.formats.btrfs import items, lzo
from mending.formats.btrfs.items import ExtentItem, Inode
from mending.model import (
    ByteOffset,
    DamagedFileError,
    FolderName,
    InputError,
    Problem,
    load_unpacker,
)
from mending.source import Source

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
        self.root = items.TOP_TREE << _TREE | items.FIRST_INODE
        if top == DEFAULT:
            self.root = self._volume.default_tree() << _TREE | items.FIRST_INODE
        elif top:
            self.root = self._find(top)

    def tops(self) -> list[str]:
        """The subvolumes that a system may take for its whole, the likeliest first: the default
        one, those in the uppermost, the uppermost.
        """
        inside = self._folder(self.root).inodes
        apart = [name for name, number in inside.items() if number >> _TREE != self.root >> _TREE]
        default = self._volume.default_tree() != items.TOP_TREE
        return [*([DEFAULT] if default else []), *apart[:_MOST_SUBVOLUMES], ""]

    def is_packed(self, path: str) -> bool:
        """Whether a part of a file is kept compressed."""
        found = self._parts(self._at(path))
        return any(part.packed != items.PLAIN for _, part in islice(found, _MOST_EXTENTS))

    def extents(self, path: str) -> list[tuple[int, int]] | None:
        """See `InodeReader.extents`; checksums of content make any change in place a fault, so
        there are none.
        """
        self._at(path)
        return None

    def _inode(self, number: int) -> Inode:
        tree, own = number >> _TREE, number & (1 << _TREE) - 1
        key = (own, items.INODE, 0)
        for _, raw in self._volume.items(self._root(tree), key, key):
            found = items.inode(raw, number)
            if found is not None:
                return found
        raise DamagedFileError(f"its inode {own} is not in tree {tree}.")

    def _root(self, tree: int) -> int:
        if tree not in self._roots:
            self._roots[tree] = self._volume.root_of(tree)
        return self._roots[tree]

    def _names(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderName]:
        tree, own = inode.number >> _TREE, inode.number & (1 << _TREE) - 1
        first, last = (own, items.INDEX, 0), (own, items.INDEX, 1 << 64)
        try:
            for _, raw in self._volume.items(self._root(tree), first, last):
                for name in items.names(raw):
                    number = tree << _TREE | name.object
                    if name.is_subvolume:
                        number = name.object << _TREE | items.FIRST_INODE
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
            if part.packed != items.PLAIN:
                unpacked += part.unpacked
                if unpacked > _MOST_PACKED:
                    raise InputError("it is packed, and more of it than is unpacked at a time.")
            piece = self._piece(part, wanted)
            data[at : at + len(piece)] = piece
        return bytes(data)

    def _parts(self, inode: Inode) -> Iterator[tuple[int, ExtentItem]]:
        tree, own = inode.number >> _TREE, inode.number & (1 << _TREE) - 1
        first, last = (own, items.EXTENT, 0), (own, items.EXTENT, 1 << 64)
        for key, raw in self._volume.items(self._root(tree), first, last):
            part = items.extent(raw)
            if part is None:
                raise DamagedFileError("where a part of it lies is cut off.")
            yield key[2], part

    def _piece(self, part: ExtentItem, wanted: int) -> bytes:
        """What a file shows of a part; nothing where it reads as zeros."""
        if part.kind == items.INLINE:
            return self._unpacked(part.data, part)[:wanted]
        if part.kind != items.REGULAR or not part.address:
            return b""
        if part.packed == items.PLAIN:
            return self._volume.read(part.address + part.skip, wanted)
        if part.unpacked > _MOST_PACKED or part.kept > _MOST_PACKED:
            raise DamagedFileError(f"a packed part of it has {part.unpacked} bytes.")
        whole = self._unpacked(self._volume.read(part.address, part.kept), part)
        return whole[part.skip : part.skip + wanted]

    def _unpacked(self, data: bytes, part: ExtentItem) -> bytes:
        most = min(part.unpacked, _MOST_PACKED)
        try:
            if part.packed == items.PLAIN:
                return data
            if part.packed == items.ZLIB:
                return zlib.decompressobj().decompress(data, most)
            if part.packed == items.LZO:
                return lzo.unpack_segments(data, most, self.block_bytes)
            if part.packed == items.ZSTD:
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
