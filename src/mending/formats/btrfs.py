"""Superblock, chunks and the nodes of trees of Btrfs volumes.

Source: Btrfs developer documentation, "On-disk Format": `struct btrfs_super_block`,
`struct btrfs_chunk`, `struct btrfs_header`, `struct btrfs_item`, `struct btrfs_key_ptr`.
"""

import hashlib
import struct
from collections.abc import Iterator

import msgspec

from mending.model import FileKind, InputError, Problem, Reading, Window, crc32c

SUPERBLOCK_AT, SUPERBLOCK_BYTES = 65_536, 4096
MAGIC = b"_BHRfS_M"
_HEAD, _ITEM, _POINTER, _KEY = 101, 25, 33, 17
_CHUNK, _STRIPE = 48, 32
_SUMMED_FROM = 32
_MOST_CHUNK_BYTES = 2048
_NODE_SIZES = range(4096, 65_537)
_ONES = 0xFFFF_FFFF
_CRC, _SHA, _BLAKE = 0, 2, 3
_PLAIN = 0x7
"""Kinds of content; the bits above say how it is spread over devices."""
_TWICE = 0x20

Key = tuple[int, int, int]
"""Object, type, offset: the order of everything in a tree."""


class Superblock(msgspec.Struct, frozen=True):
    """What says how the volume is laid out.

    Attributes:
        free: bytes of the device that hold nothing.
        root, chunk_root, log_root: logical addresses of the roots of trees; a log tree is there
            while writes wait to be replayed.
        first_chunks: rows from which the tree of chunks can be found.
        device: number of this device among those of the volume.
    """

    free: int
    root: int
    chunk_root: int
    log_root: int
    devices: int
    sector: int
    node: int
    sums: int
    incompatible: int
    device: int
    first_chunks: bytes


class Chunk(msgspec.Struct, frozen=True):
    """A piece of the logical address space.

    Attributes:
        is_plain: whether each copy holds all bytes one behind the other.
        stripes: device and offset of each copy.
    """

    start: int
    length: int
    is_plain: bool
    stripes: tuple[tuple[int, int], ...]


class Node(msgspec.Struct, frozen=True):
    """A node of a tree: level 0 holds items, others the addresses of nodes below."""

    level: int
    items: tuple[tuple[Key, bytes], ...]
    children: tuple[tuple[Key, int], ...]


def read_superblock(data: bytes) -> Superblock | None:
    """The superblock; None where there is none that makes sense.

    Args:
        data: its 4096 bytes.
    """
    if len(data) < SUPERBLOCK_BYTES or data[64:72] != MAGIC:
        return None
    root, chunk_root, log_root = struct.unpack_from("<QQQ", data, 80)
    devices, sector, node = struct.unpack_from("<QII", data, 136)
    length = struct.unpack_from("<I", data, 160)[0]
    incompatible, sums = struct.unpack_from("<QH", data, 188)
    device = struct.unpack_from("<Q", data, 201)[0]
    if node not in _NODE_SIZES or sector not in _NODE_SIZES or length > _MOST_CHUNK_BYTES:
        return None
    first = data[811 : 811 + length]
    total, used = struct.unpack_from("<QQ", data, 112)
    free = max(total - used, 0)
    return Superblock(
        free, root, chunk_root, log_root, devices, sector, node, sums, incompatible, device, first
    )


def first_chunks(raw: bytes) -> Iterator[Chunk]:
    """The chunks that a superblock keeps itself: key and chunk, one behind the other."""
    at = 0
    while at + _KEY + _CHUNK <= len(raw):
        start = struct.unpack_from("<Q", raw, at + 9)[0]
        found = chunk(start, raw[at + _KEY :])
        if found is None:
            return
        yield found
        at += _KEY + _CHUNK + _STRIPE * len(found.stripes)


def chunk(start: int, raw: bytes) -> Chunk | None:
    """A chunk; None where it is cut off."""
    if len(raw) < _CHUNK:
        return None
    length, _, _, kind = struct.unpack_from("<QQQQ", raw)
    count = struct.unpack_from("<H", raw, 44)[0]
    if not count or _CHUNK + _STRIPE * count > len(raw):
        return None
    stripes = tuple(
        struct.unpack_from("<QQ", raw, _CHUNK + _STRIPE * number) for number in range(count)
    )
    spread = kind & ~_PLAIN
    return Chunk(start, length, spread in {0, _TWICE}, stripes)


def read_node(window: Window, address: int, sums: int) -> Reading[Node]:
    """A node.

    Args:
        window: exactly the node.
        address: the logical address that it must name.
        sums: kind of checksums; one that is not known is not judged.

    Raises:
        InputError: it is too short.
    """
    data = window.data
    if len(data) < _HEAD:
        raise InputError("A node of a tree is cut off.")
    nothing = Node(0, (), ())
    made = _sum(data[_SUMMED_FROM:], sums)
    if made is not None and data[: len(made)] != made:
        found, wanted = data[:4].hex(), made[:4].hex()
        return Reading(nothing, (Problem("node-checksum", window.offset, 4, found, wanted),))
    named, count, level = (
        struct.unpack_from("<Q", data, 48)[0],
        struct.unpack_from("<I", data, 96)[0],
        data[100],
    )
    room = (len(data) - _HEAD) // (_POINTER if level else _ITEM)
    if named != address or count > room:
        found = f"{count} rows at {named:x}"
        wanted = f"at most {room} at {address:x}"
        return Reading(nothing, (Problem("node-head", window.offset + 48, 52, found, wanted),))
    if level:
        children = tuple(
            (_key(data, _HEAD + _POINTER * row), _number(data, _HEAD + _POINTER * row + _KEY))
            for row in range(count)
        )
        return Reading(Node(level, (), children))
    items: list[tuple[Key, bytes]] = []
    for row in range(count):
        at = _HEAD + _ITEM * row
        offset, length = struct.unpack_from("<II", data, at + _KEY)
        if _HEAD + offset + length > len(data):
            problem = Problem("node-item", window.offset + at, _ITEM, f"{offset}", "in the node")
            return Reading(Node(0, tuple(items), ()), (problem,))
        items.append((_key(data, at), data[_HEAD + offset : _HEAD + offset + length]))
    return Reading(Node(0, tuple(items), ()))


def _key(data: bytes, at: int) -> Key:
    first, kind, offset = struct.unpack_from("<QBQ", data, at)
    return first, kind, offset


def _number(data: bytes, at: int) -> int:
    return int.from_bytes(data[at : at + 8], "little")


def _sum(data: bytes, kind: int) -> bytes | None:
    if kind == _CRC:
        return (crc32c(data) ^ _ONES).to_bytes(4, "little")
    if kind == _SHA:
        return hashlib.sha256(data).digest()
    if kind == _BLAKE:
        return hashlib.blake2b(data, digest_size=32).digest()
    return None


# Items of Btrfs trees: inodes, names, extents, roots of subvolumes.
#
# Source: Btrfs developer documentation, "On-disk Format": `struct btrfs_inode_item`,
# `struct btrfs_dir_item`, `struct btrfs_file_extent_item`, `struct btrfs_root_item`.


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


# Unpacks LZO1X, as Btrfs keeps it: segments with their lengths in front.
#
# Sources: Linux kernel documentation, "LZO stream format as understood by Linux' LZO decompressor",
# and Btrfs developer documentation, "Compression", for the segments.


_SEGMENT = 4
_LONG = 16
_MOST_BYTES = 8 * 1024 * 1024


def unpack_lzo_segments(data: bytes, length: int, sector: int) -> bytes:
    """Unpack an extent.

    Args:
        length: bytes that come out. sector: no length of a segment crosses a multiple of this.

    Raises:
        InputError: it is damaged.
    """
    total = int.from_bytes(data[:_SEGMENT], "little")
    end, at, parts, size = min(total, len(data)), _SEGMENT, [], 0
    while at + _SEGMENT <= end and size < length:
        left = sector - at % sector if sector else _SEGMENT
        if left < _SEGMENT:
            at += left
            continue
        count = int.from_bytes(data[at : at + _SEGMENT], "little")
        at += _SEGMENT
        if not count or at + count > len(data):
            raise InputError("a packed segment is cut off.")
        part = unpack_lzo(data[at : at + count], min(max(sector, 4096), _MOST_BYTES))
        parts.append(part)
        size += len(part)
        at += count
    return b"".join(parts)[:length]


def unpack_lzo(data: bytes, most: int) -> bytes:
    """Unpack one segment.

    Args:
        most: bytes that may come out.

    Raises:
        InputError: it is damaged, or holds more.
    """
    try:
        return bytes(_unpacked(data, most))
    except IndexError as error:
        raise InputError("a packed segment is damaged.") from error


def _unpacked(data: bytes, most: int) -> bytearray:
    out, at, state = bytearray(), 0, 0
    if data[0] > 17:
        count = data[0] - 17
        out += _take(data, 1, count)
        at, state = 1 + count, min(count, 4)
    while True:
        code = data[at]
        at += 1
        if code < _LONG and state == 0:
            count, at = _count(data, at, code, 15, 3)
            out += _take(data, at, count)
            at, state = at + count, 4
            continue
        if code >= 64:
            count = (code >> 5) + 1
            distance = (data[at] << 3) + (code >> 2 & 7) + 1
            trailing, at = code & 3, at + 1
        elif code >= 32:
            count, at = _count(data, at, code & 31, 31, 2)
            word = data[at] | data[at + 1] << 8
            distance, trailing, at = (word >> 2) + 1, word & 3, at + 2
        elif code >= _LONG:
            count, at = _count(data, at, code & 7, 7, 2)
            word = data[at] | data[at + 1] << 8
            distance = ((code & 8) << 11) + (word >> 2) + 16_384
            trailing, at = word & 3, at + 2
            if distance == 16_384:
                return out
        elif state == 4:
            count, distance = 3, (data[at] << 2) + (code >> 2) + 2049
            trailing, at = code & 3, at + 1
        else:
            count, distance = 2, (data[at] << 2) + (code >> 2) + 1
            trailing, at = code & 3, at + 1
        if distance > len(out) or len(out) + count > most:
            raise InputError("a packed segment is damaged.")
        start = len(out) - distance
        piece = bytes(out[start : start + count])
        out += (piece * (count // len(piece) + 1))[:count]
        out += _take(data, at, trailing)
        at, state = at + trailing, trailing


def _count(data: bytes, at: int, low: int, most: int, plus: int) -> tuple[int, int]:
    """A length that goes on in further bytes where its bits are all 0."""
    if low:
        return low + plus, at
    total = most
    while not data[at]:
        total, at = total + 255, at + 1
        if total > _MOST_BYTES:
            raise InputError("a packed segment is damaged.")
    return total + data[at] + plus, at + 1


def _take(data: bytes, at: int, count: int) -> bytes:
    if at + count > len(data):
        raise InputError("a packed segment is cut off.")
    return data[at : at + count]
