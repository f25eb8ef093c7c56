"""XFS: superblock, inodes, extents and the nodes of their trees. All numbers are big-endian but the
checksums.

Source: "XFS Algorithms & Data Structures", third edition, chapters "Superblocks", "On-disk Inode",
"Data Extents" and "Checksums".
"""

import struct
from collections.abc import Callable, Iterator

import msgspec

from mending.model import (
    Field,
    FileKind,
    FolderName,
    InputError,
    Layout,
    Problem,
    Reading,
    Window,
    crc32c,
)

SIZE = 512
MAGIC = b"XFSB"
LOCAL, EXTENTS, TREE = 1, 2, 3
_WITH_CHECKSUMS, _VERSION = 5, 15
_KNOWN = 0xFF
_KINDS_4, _KINDS_5 = 0x200, 0x1
_INODE_MAGIC = b"IN"
_CORE_2, _CORE_3 = 100, 176
_CHECKSUM_AT, _COUNT_AT, _LARGE_COUNT_AT, _FLAGS_2_AT = 100, 76, 24, 120
_LARGE_COUNTS = 0x10
_NODE_MAGICS = {b"BMAP": 24, b"BMA3": 72}
_NODE_CHECKSUM_AT = 64
_ROW = 16
_KIND = 0xF000
_ONES = 0xFFFF_FFFF


class Superblock(msgspec.Struct, frozen=True):
    """The fields that say how the volume is laid out."""

    magic: bytes
    block_size: int
    blocks_high: int
    blocks_low: int
    log_high: int
    log_low: int
    root_high: int
    root_low: int
    group_blocks: int
    groups: int
    log_blocks: int
    version: int
    inode_size: int
    block_log: int
    inode_log: int
    inodes_log: int
    group_log: int
    folder_log: int
    free_high: int
    free_low: int
    features_2: int
    incompatible: int

    @property
    def blocks(self) -> int:
        """Length of the volume in blocks."""
        return self.blocks_high << 32 | self.blocks_low

    @property
    def root(self) -> int:
        """Number of the root folder's inode."""
        return self.root_high << 32 | self.root_low

    @property
    def has_checksums(self) -> bool:
        """Whether structures carry checksums."""
        return self.version & _VERSION == _WITH_CHECKSUMS

    @property
    def has_kinds(self) -> bool:
        """Whether folders keep the kind of file beside each name."""
        flags = self.incompatible if self.has_checksums else self.features_2
        return bool(flags & (_KINDS_5 if self.has_checksums else _KINDS_4))

    @property
    def unknown_features(self) -> int:
        """Features without which the volume cannot be read, and that are not known here."""
        return self.incompatible & ~_KNOWN if self.has_checksums else 0

    @property
    def makes_sense(self) -> bool:
        """Whether the sizes fit together."""
        return (
            self.magic == MAGIC
            and 9 <= self.block_log <= 16
            and self.block_size == 1 << self.block_log
            and 8 <= self.inode_log <= 11
            and self.inode_size == 1 << self.inode_log
            and self.inodes_log == self.block_log - self.inode_log
            and 0 < self.group_blocks <= 1 << self.group_log <= 1 << 31
            and self.block_log + self.folder_log <= 16
        )


SUPERBLOCK = Layout(
    Superblock,
    SIZE,
    [
        Field("magic", 0, 4, "bytes", "", "XFSB"),
        Field("block_size", 4, 4, "U", "bytes", "size of a block"),
        Field("blocks_high", 8, 4, "U", "blocks", "length, high half"),
        Field("blocks_low", 12, 4, "U", "blocks", "length, low half"),
        Field("log_high", 48, 4, "U", "", "first block of the log, high half"),
        Field("log_low", 52, 4, "U", "", "first block of the log, low half"),
        Field("root_high", 56, 4, "U", "", "inode of the root folder, high half"),
        Field("root_low", 60, 4, "U", "", "inode of the root folder, low half"),
        Field("group_blocks", 84, 4, "U", "blocks", "length of an allocation group"),
        Field("groups", 88, 4, "U", "", "number of groups"),
        Field("log_blocks", 96, 4, "U", "blocks", "length of the log"),
        Field("version", 100, 2, "U", "", "4 or 5 in its low digit"),
        Field("inode_size", 104, 2, "U", "bytes", "size of an inode"),
        Field("block_log", 120, 1, "u", "", "size of a block as a power of two"),
        Field("inode_log", 122, 1, "u", "", "size of an inode, likewise"),
        Field("inodes_log", 123, 1, "u", "", "inodes in a block, likewise"),
        Field("group_log", 124, 1, "u", "", "blocks of a group, rounded up, likewise"),
        Field("free_high", 144, 4, "U", "blocks", "free, high half"),
        Field("free_low", 148, 4, "U", "blocks", "free, low half"),
        Field("folder_log", 192, 1, "u", "", "blocks of a folder's block, likewise"),
        Field("features_2", 200, 4, "U", "", "further features of version 4"),
        Field("incompatible", 216, 4, "U", "", "features that must be known to read"),
    ],
)


def free_bytes(block: Superblock) -> int:
    """Room on a volume, as its superblock counts it."""
    return (block.free_high << 32 | block.free_low) * block.block_size


class Extent(msgspec.Struct, frozen=True):
    """Blocks of a file that lie together. `start` is None where they read as zeros."""

    first: int
    count: int
    start: int | None


class Inode(FileKind, msgspec.Struct, frozen=True):
    """One file, folder, link or device.

    Attributes:
        format: `LOCAL`, `EXTENTS` or `TREE`: how its data are found.
        fork: the bytes of the inode that say so, or that are the data.
        extents: how many extents there are.
    """

    number: int
    mode: int
    format: int
    length: int
    extents: int
    fork: bytes

    @property
    def mode_bits(self) -> int:
        """Kind of file and permissions."""
        return self.mode


class Node(msgspec.Struct, frozen=True):
    """A node of a tree of extents: level 0 holds extents, the others the blocks of nodes below."""

    level: int
    extents: tuple[Extent, ...]
    children: tuple[int, ...]


def read_inode(window: Window, number: int, has_checksum: bool) -> Reading[Inode]:
    """Read an inode.

    Args:
        window: exactly the inode.
        has_checksum: whether it must carry one that fits.

    Raises:
        InputError: it is too short.
    """
    data = window.data
    if len(data) < 256:
        raise InputError("An inode is cut off.")
    mode, version, form = struct.unpack_from(">HBB", data, 2)
    (length,) = struct.unpack_from(">Q", data, 56)
    core = _CORE_3 if version == 3 else _CORE_2
    count, away = struct.unpack_from(">I", data, _COUNT_AT)[0], 8 * data[82]
    if version == 3 and struct.unpack_from(">Q", data, _FLAGS_2_AT)[0] & _LARGE_COUNTS:
        (count,) = struct.unpack_from(">Q", data, _LARGE_COUNT_AT)
    fork = data[core : core + away] if away else data[core:]
    problems = []
    if data[:2] != _INODE_MAGIC or not mode & _KIND:
        found = f"{data[:2].hex(' ')}, mode {mode:o}"
        problems.append(Problem("inode-unused", window.offset, 4, found, "49 4e, a mode"))
    elif has_checksum:
        kept = int.from_bytes(data[_CHECKSUM_AT : _CHECKSUM_AT + 4], "little")
        made = _checksum(data, _CHECKSUM_AT)
        if kept != made:
            at = window.offset + _CHECKSUM_AT
            problems.append(Problem("inode-checksum", at, 4, f"{kept:08x}", f"{made:08x}"))
    return Reading(Inode(number, mode, form, length, count, fork), tuple(problems))


def extents(rows: bytes, count: int) -> Iterator[Extent]:
    """Extents as rows of sixteen bytes."""
    for at in range(0, min(count * _ROW, len(rows) // _ROW * _ROW), _ROW):
        high, low = struct.unpack_from(">QQ", rows, at)
        first, unwritten = high >> 9 & (1 << 54) - 1, high >> 63
        start = (high & 0x1FF) << 43 | low >> 21
        yield Extent(first, low & 0x1F_FFFF, None if unwritten else start)


def root_node(fork: bytes) -> Node:
    """The root of a tree, as an inode keeps it.

    Raises:
        InputError: it is too short.
    """
    if len(fork) < 4:
        raise InputError("The root of a tree of extents is cut off.")
    level, count = struct.unpack_from(">HH", fork)
    room = (len(fork) - 4) // _ROW
    return Node(level, (), _children(fork[4 + 8 * room :], min(count, room)))


def node(window: Window, has_checksum: bool) -> Reading[Node]:
    """A block of a tree of extents.

    Raises:
        InputError: it is too short.
    """
    data = window.data
    head = _NODE_MAGICS.get(data[:4], 0)
    if not head or len(data) < head + _ROW:
        found, wanted = data[:4].hex(" "), "42 4d 41 33 or 42 4d 41 50"
        return Reading(Node(0, (), ()), (Problem("node-magic", window.offset, 4, found, wanted),))
    level, count = struct.unpack_from(">HH", data, 4)
    room, problems = (len(data) - head) // _ROW, []
    if count > room:
        problems.append(Problem("node-rows", window.offset + 6, 2, f"{count}", f"at most {room}"))
    if has_checksum and head != _NODE_MAGICS[b"BMAP"]:
        kept = int.from_bytes(data[_NODE_CHECKSUM_AT : _NODE_CHECKSUM_AT + 4], "little")
        if kept != _checksum(data, _NODE_CHECKSUM_AT):
            at = window.offset + _NODE_CHECKSUM_AT
            problems.append(Problem("node-checksum", at, 4, f"{kept:08x}", "one that fits"))
    count = min(count, room)
    if level:
        found_children = _children(data[head + 8 * room :], count)
        return Reading(Node(level, (), found_children), tuple(problems))
    return Reading(Node(0, tuple(extents(data[head:], count)), ()), tuple(problems))


def _children(rows: bytes, count: int) -> tuple[int, ...]:
    count = min(count, len(rows) // 8)
    return struct.unpack_from(f">{count}Q", rows)


def _checksum(data: bytes, at: int) -> int:
    return crc32c(data[:at] + bytes(4) + data[at + 4 :]) ^ _ONES


# Folders of XFS volumes: short ones kept in the inode, and blocks with names.
#
# Source: "XFS Algorithms & Data Structures", third edition, chapter "Directories".


_HEADS = {b"XD2B": 16, b"XD2D": 16, b"XDB3": 64, b"XDD3": 64}
_WITH_TAIL = {b"XD2B", b"XDB3"}
"""A folder of one block keeps its hashes at the end of it."""
_FREE = 0xFFFF
_LEAF_MAGICS = {b"\x3d\xf1", b"\x3d\xff"}


def short_rows(data: bytes, has_kinds: bool) -> list[FolderName]:
    """The names of a folder that is kept in its inode."""
    if len(data) < 6:
        return []
    count, wide = data[0], 8 if data[1] else 4
    at, found = 2 + wide, list[FolderName]()
    for _ in range(count):
        if at + 3 > len(data):
            break
        end = at + 3 + data[at]
        kind = data[end] if has_kinds and end < len(data) else 0
        place = end + int(has_kinds)
        if place + wide > len(data):
            break
        inode = int.from_bytes(data[place : place + wide], "big")
        found.append(FolderName(inode, data[at + 3 : end], kind))
        at = place + wide
    return found


def folder_rows(block: bytes, base: int, has_kinds: bool) -> tuple[list[FolderName], list[Problem]]:
    """The names in a block.

    Args:
        base: absolute offset of the block, for problems.
    """
    head = _HEADS.get(block[:4], 0)
    if not head:
        found, wanted = block[:4].hex(" "), "a block of names"
        return [], [Problem("folder-magic", base, 4, found, wanted)]
    end = len(block)
    if block[:4] in _WITH_TAIL and end >= 8:
        end -= 8 + 8 * int.from_bytes(block[-8:-4], "big")
    at, listed = head, list[FolderName]()
    while at + 8 <= end:
        tag, length = struct.unpack_from(">HH", block, at)
        if tag == _FREE:
            if length < 8 or length % 8:
                break
            at += length
            continue
        count = block[at + 8] if at + 9 <= end else 0
        size = -(-(8 + 1 + count + int(has_kinds) + 2) // 8) * 8
        if not count or at + size > end:
            break
        inode = int.from_bytes(block[at : at + 8], "big")
        kind = block[at + 9 + count] if has_kinds else 0
        listed.append(FolderName(inode, block[at + 9 : at + 9 + count], kind))
        at += size
    if at < end:
        return listed, [Problem("folder-row", base + at, 8, "a row without a length", "a row")]
    return listed, []


# The log of an XFS volume, as far as telling whether it was closed: a log that was closed ends in
# a record with one operation, which says so.
#
# The log is a ring of blocks of 512 bytes. The first word of every block counts how often the ring
# was gone round (in the head of a record it is the second word); where that count falls is the end
# of what was written. The kernel finds that place by halving, and so does this.
#
# Source: "XFS Algorithms & Data Structures", third edition, chapter "Journaling Log".


LOG_BLOCK = 512
_MAGIC = 0xFEED_BABE
_UNMOUNT = 0x20
_PER_HEAD = 32_768
_MOST_BACK = 1100
"""Blocks of the longest record, its head included."""
_FLAGS_AT, _LOG_COUNT_AT, _VERSION_AT, _SIZE_AT = 9, 40, 8, 320

Read = Callable[[int, int], bytes]
"""Offset in the log and length to bytes."""


def was_closed(read: Read, blocks: int) -> bool | None:
    """Whether the last record says that the volume was unmounted; None where no record is found.

    Args:
        blocks: length of the log.

    Raises:
        InputError: from `read`.
    """
    if blocks < 1:
        return None
    end = _end(read, blocks)
    for back in range(1, min(_MOST_BACK, blocks) + 1):
        at = (end - back) % blocks
        head = _block(read, at)
        if _word(head, 0) == _MAGIC:
            return _says_unmounted(read, head, at, blocks)
    return None


def _says_unmounted(read: Read, head: bytes, at: int, blocks: int) -> bool:
    if _word(head, _LOG_COUNT_AT) != 1:
        return False
    heads = 1
    if _word(head, _VERSION_AT) & 2:
        heads = max(1, -(-_word(head, _SIZE_AT) // _PER_HEAD))
    return bool(_block(read, (at + heads) % blocks)[_FLAGS_AT] & _UNMOUNT)


def _end(read: Read, blocks: int) -> int:
    """The first block behind what was written last."""
    first = _round(_block(read, 0))
    if _round(_block(read, blocks - 1)) == first:
        return 0
    low, high = 0, blocks - 1
    while high - low > 1:
        middle = (low + high) // 2
        if _round(_block(read, middle)) == first:
            low = middle
        else:
            high = middle
    return high


def _block(read: Read, number: int) -> bytes:
    return read(number * LOG_BLOCK, LOG_BLOCK).ljust(LOG_BLOCK, b"\0")


def _round(block: bytes) -> int:
    return _word(block, 4 if _word(block, 0) == _MAGIC else 0)


def _word(block: bytes, at: int) -> int:
    number: int = struct.unpack_from(">I", block.ljust(LOG_BLOCK, b"\0"), at)[0]
    return number
