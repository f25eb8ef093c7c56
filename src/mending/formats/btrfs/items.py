"""Items of Btrfs trees: inodes, names, extents, roots of subvolumes.

Source: Btrfs developer documentation, "On-disk Format": `struct btrfs_inode_item`,
`struct btrfs_dir_item`, `struct btrfs_file_extent_item`, `struct btrfs_root_item`.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import FileKind

INODE, DIRECTORY, INDEX, EXTENT, ROOT, CHUNK = 1, 84, 96, 108, 132, 228
"""Types of keys."""
TOP_TREE, ROOT_FOLDER, FIRST_INODE = 5, 6, 256
"""Tree of the top subvolume; the object of the root tree that names the default one; the inode of
every subvolume's top.
"""
INLINE, REGULAR, UNWRITTEN = 0, 1, 2
PLAIN, ZLIB, LZO, ZSTD = 0, 1, 2, 3
_NAME_AT = 30
_FOLDER_NAME, _LINK_NAME = 2, 7


class Inode(FileKind, msgspec.Struct, frozen=True):
    """One file, folder, link or device. `number`: of its tree in the upper half, then its own."""

    number: int
    length: int
    mode: int

    @property
    def mode_bits(self) -> int:
        """Kind of file and permissions."""
        return self.mode


class NameItem(msgspec.Struct, frozen=True):
    """A name in a folder.

    Attributes:
        object: number of an inode; of a tree where it names a subvolume.
        is_subvolume: whether it does.
    """

    object: int
    is_subvolume: bool
    name: bytes
    kind: int

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder, as far as the item tells."""
        return self.kind == _FOLDER_NAME

    @property
    def is_link(self) -> bool:
        """Whether it is a symbolic link, as far as the item tells."""
        return self.kind == _LINK_NAME


class ExtentItem(msgspec.Struct, frozen=True):
    """Where a part of a file is kept.

    Attributes:
        kind: `INLINE`, `REGULAR`, `UNWRITTEN`.
        packed: `PLAIN`, `ZLIB`, `LZO`, `ZSTD`, or a number that is not known.
        unpacked: bytes of the whole extent when unpacked.
        data: of an inline one.
        address, kept: logical address and length of the whole extent as kept; address 0: a hole.
        skip, length: which bytes of the unpacked extent the file shows here.
    """

    kind: int
    packed: int
    unpacked: int
    data: bytes
    address: int
    kept: int
    skip: int
    length: int


def inode(raw: bytes, number: int) -> Inode | None:
    """An inode; None where it is cut off."""
    if len(raw) < 56:
        return None
    return Inode(number, struct.unpack_from("<Q", raw, 16)[0], struct.unpack_from("<I", raw, 52)[0])


def names(raw: bytes) -> Iterator[NameItem]:
    """The names in an item: usually one, several where hashes of names are the same."""
    at = 0
    while at + _NAME_AT <= len(raw):
        number, kind = struct.unpack_from("<QB", raw, at)
        data, count, what = struct.unpack_from("<HHB", raw, at + 25)
        end = at + _NAME_AT + count
        if not count or end + data > len(raw):
            return
        yield NameItem(number, kind == ROOT, raw[at + _NAME_AT : end], what)
        at = end + data


def extent(raw: bytes) -> ExtentItem | None:
    """A part of a file; None where it is cut off."""
    if len(raw) < 21:
        return None
    unpacked, packed, kind = struct.unpack_from("<QB3xB", raw, 8)
    if kind == INLINE:
        return ExtentItem(kind, packed, unpacked, raw[21:], 0, 0, 0, unpacked)
    if len(raw) < 53:
        return None
    address, kept, skip, length = struct.unpack_from("<QQQQ", raw, 21)
    return ExtentItem(kind, packed, unpacked, b"", address, kept, skip, length)


def root_address(raw: bytes) -> int:
    """Logical address of the root of a tree; 0 where the item is cut off."""
    return struct.unpack_from("<Q", raw, 176)[0] if len(raw) >= 184 else 0
