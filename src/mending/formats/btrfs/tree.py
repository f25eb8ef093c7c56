"""Superblock, chunks and the nodes of trees of Btrfs volumes.

Source: Btrfs developer documentation, "On-disk Format": `struct btrfs_super_block`,
`struct btrfs_chunk`, `struct btrfs_header`, `struct btrfs_item`, `struct btrfs_key_ptr`.
"""

import hashlib
import struct
from collections.abc import Iterator

import msgspec

from mending.model import InputError, Problem, Reading, Window, crc32c

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
