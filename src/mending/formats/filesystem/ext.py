"""Superblocks of ext2, ext3 and ext4 volumes, the first one and its copies.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "The Super
Block", "Layout" and "Checksums".
"""

import uuid
from collections.abc import Iterator

import msgspec

from mending.model import (
    Field,
    Layout,
    Problem,
    Reading,
    VolumeInfo,
    VolumeState,
    Window,
    crc32c,
    hex_preview,
    plain_bytes,
)

SUPERBLOCK_OFFSET = 1024
SIZE = 1024
MAGIC = 0xEF53
STATE_CLEAN, STATE_ERRORS = 1, 2
NEEDS_RECOVERY = 0x4
"""Incompatible feature that is set while the journal holds something to replay."""
CHECKSUM = "superblock-checksum"
"""The one problem that only Linux kernels care for."""
_INDEXES, _JOURNAL_APART = 0x20, 0x8
_SPARSE_COPIES, _METADATA_CHECKSUMS = 0x1, 0x400
_TWO_COPIES = 0x200
_JOURNAL_MAGIC = b"\xc0\x3b\x39\x98"
_CLUSTERS, _MOST_SHIFT_OF_CLUSTERS = 0x200, 16
"""Space is given out by clusters of many blocks, so a group is so many times as long."""
_KINDS, _META_GROUPS, _LARGE_COUNTS, _OWN_SEED = 0x2, 0x10, 0x80, 0x2000
_KNOWN = 0x2 | 0x4 | 0x10 | 0x40 | 0x80 | 0x100 | 0x200 | 0x400 | 0x2000 | 0x4000 | 0x8000 | 0x30000
"""Kinds in folders, journal, groups, extents, 64 bits, guard of mounts, flexible groups, attributes
in inodes, seed, long folders, inline data, encryption and names in any case.
"""
_OLD_INODE, _OLD_DESCRIPTOR = 128, 32
_MOST_SHIFT = 6
"""Blocks of 64 KiB."""


class Superblock(msgspec.Struct, frozen=True):
    """The fields that say what the volume is, how it is laid out and how it was left."""

    inodes: int
    blocks_low: int
    reserved_blocks_low: int
    free_blocks_low: int
    free_inodes: int
    first_data_block: int
    log_block_kib: int
    log_cluster_kib: int
    blocks_per_group: int
    inodes_per_group: int
    magic: int
    state: int
    inode_size: int
    group: int
    compatible: int
    incompatible: int
    read_only: int
    uuid: bytes
    label: bytes
    journal_backup: int
    journal_blocks: bytes
    revision: int
    descriptor_bytes: int
    first_meta_group: int
    checksum_seed: int
    blocks_high: int
    free_blocks_high: int
    copy_group_one: int
    copy_group_two: int
    checksum: int

    @property
    def block_size(self) -> int:
        """Bytes in a block; 0 when the field makes no sense."""
        return 1024 << self.log_block_kib if self.log_block_kib <= _MOST_SHIFT else 0

    @property
    def blocks(self) -> int:
        """Length of the volume in blocks."""
        return self.blocks_low + (
            self.blocks_high << 32 if self.incompatible & _LARGE_COUNTS else 0
        )

    @property
    def bytes(self) -> int:
        """Length of the volume in bytes; 0 when the block size makes no sense."""
        return self.blocks * self.block_size

    @property
    def name(self) -> str:
        """The label as text."""
        return plain_bytes(self.label)

    @property
    def unknown_features(self) -> int:
        """Features without which the volume cannot be read, and that are not known here."""
        return self.incompatible & ~_KNOWN

    @property
    def has_kinds(self) -> bool:
        """Whether folders keep the kind of file beside each name."""
        return bool(self.incompatible & _KINDS)

    @property
    def has_indexes(self) -> bool:
        """Whether large folders have hash trees."""
        return bool(self.compatible & _INDEXES)

    @property
    def inode_bytes(self) -> int:
        """Size of an inode."""
        return self.inode_size if self.revision else _OLD_INODE

    @property
    def group_bytes(self) -> int:
        """Size of a group's descriptor."""
        return self.descriptor_bytes if self.incompatible & _LARGE_COUNTS else _OLD_DESCRIPTOR

    @property
    def seed(self) -> int | None:
        """The register with which checksums begin; None where the volume keeps none."""
        if not self.read_only & _METADATA_CHECKSUMS:
            return None
        return self.checksum_seed if self.incompatible & _OWN_SEED else crc32c(self.uuid)

    def descriptor_block(self, number: int) -> int:
        """Where a block of descriptors is: behind the first superblock, or, from a number on, in
        the first of the groups that it describes (section "Meta Block Groups").
        """
        if not self.incompatible & _META_GROUPS or number < self.first_meta_group:
            return SUPERBLOCK_OFFSET // max(self.block_size, 1) + 1 + number
        first = self.first_data_block
        group = number * (self.block_size // max(self.group_bytes, 1))
        behind = _has_copy(self, group) or (self.block_size == SIZE and not number and not first)
        return first + group * self.blocks_per_group + int(behind)

    @property
    def identity(self) -> tuple[object, ...]:
        """What the first superblock and every copy have in common for as long as the volume
        lives.
        """
        return (
            self.uuid,
            self.blocks,
            self.log_block_kib,
            self.blocks_per_group,
            self.inodes_per_group,
            self.inodes,
        )


SUPERBLOCK = Layout(
    Superblock,
    SIZE,
    [
        Field("inodes", 0, 4, "u", "", "number of inodes"),
        Field("blocks_low", 4, 4, "u", "blocks", "length, low half"),
        Field("reserved_blocks_low", 8, 4, "u", "blocks", "kept for the administrator, low half"),
        Field("free_blocks_low", 12, 4, "u", "blocks", "free, low half"),
        Field("free_inodes", 16, 4, "u", "", "inodes that are free"),
        Field("first_data_block", 20, 4, "u", "", "1 with blocks of 1 KiB, else 0"),
        Field("log_block_kib", 24, 4, "u", "", "block size is 1 KiB shifted by this"),
        Field("log_cluster_kib", 28, 4, "u", "", "size of a cluster, likewise"),
        Field("blocks_per_group", 32, 4, "u", "blocks", "length of a group"),
        Field("inodes_per_group", 40, 4, "u", "", "inodes in a group"),
        Field("magic", 56, 2, "u", "", "53 ef"),
        Field("state", 58, 2, "u", "", "1 closed properly, 2 errors recorded"),
        Field("revision", 76, 4, "u", "", "0: inodes of 128 bytes, whatever their size says"),
        Field("inode_size", 88, 2, "u", "bytes", "size of an inode"),
        Field("group", 90, 2, "u", "", "group that holds this copy"),
        Field("compatible", 92, 4, "u", "", "features that need not be known"),
        Field("incompatible", 96, 4, "u", "", "features that must be known to read"),
        Field("read_only", 100, 4, "u", "", "features that must be known to write"),
        Field("uuid", 104, 16, "bytes", "", "identifier of the volume"),
        Field("label", 120, 16, "bytes", "", "volume label"),
        Field("journal_backup", 253, 1, "u", "", "1: a copy of the journal's block map follows"),
        Field("descriptor_bytes", 254, 2, "u", "bytes", "size of a group's descriptor"),
        Field("first_meta_group", 260, 4, "u", "", "first block of descriptors that lies apart"),
        Field("journal_blocks", 268, 68, "bytes", "", "copy of the journal's block map"),
        Field("blocks_high", 336, 4, "u", "blocks", "length, high half"),
        Field("free_blocks_high", 344, 4, "u", "blocks", "free, high half"),
        Field("copy_group_one", 588, 4, "u", "", "first of two groups with copies"),
        Field("copy_group_two", 592, 4, "u", "", "second of them"),
        Field("checksum_seed", 624, 4, "u", "", "with what checksums begin, if not the identifier"),
        Field("checksum", 1020, 4, "u", "", "CRC-32C of the bytes before"),
    ],
)


def looks_like(window: Window) -> bool:
    """Whether the window, which starts at the volume, holds a superblock at its place."""
    end = SUPERBLOCK_OFFSET + SIZE
    if len(window) < end:
        return False
    block = SUPERBLOCK.read(window, SUPERBLOCK_OFFSET)
    return block.magic == MAGIC


def is_journal(window: Window) -> bool:
    """Whether the window starts with a journal that stands apart from its volume."""
    block = SUPERBLOCK.read(window, SUPERBLOCK_OFFSET)
    return block.magic == MAGIC and bool(block.incompatible & _JOURNAL_APART)


def read(window: Window, at: int = SUPERBLOCK_OFFSET) -> Reading[Superblock]:
    """Read a superblock.

    Args:
        window: starts at the volume, or anywhere with `at` saying where in it the superblock is.

    Raises:
        InputError: the window is too short.
    """
    block = SUPERBLOCK.read(window, at)
    return Reading(block, tuple(_problems(window.part(at, SIZE), block)))


def volume_info(block: Superblock) -> VolumeInfo:
    """What a sound superblock says of its volume."""
    free = block.free_blocks_low + (
        block.free_blocks_high << 32 if block.incompatible & _LARGE_COUNTS else 0
    )
    closed = (
        block.state & STATE_CLEAN
        and not block.state & STATE_ERRORS
        and not block.incompatible & NEEDS_RECOVERY
    )
    return VolumeInfo(
        bytes=block.bytes,
        label=block.name,
        identifier=str(uuid.UUID(bytes=block.uuid)),
        used=max(block.blocks - free, 0) * block.block_size,
        state=VolumeState.CLEAN if closed else VolumeState.DIRTY,
    )


def copies(block: Superblock) -> Iterator[int]:
    """Byte offsets of the copies from the start of the volume, as the superblock lays them out."""
    groups = -(-(block.blocks - block.first_data_block) // max(block.blocks_per_group, 1))
    for group in _copy_groups(block, groups):
        yield (group * block.blocks_per_group + block.first_data_block) * block.block_size


def first_copies() -> list[int]:
    """Byte offsets where the copy in group 1 is for each block size, with groups as long as a
    bitmap block allows.
    """
    sizes = [1024 << shift for shift in range(_MOST_SHIFT + 1)]
    return [(8 * size + (1 if size == 1024 else 0)) * size for size in sizes]


def as_first(copy: bytes, recover: bool) -> bytes:
    """A copy turned into the first superblock: its group number and checksum, and not called clean.

    Args:
        recover: whether the journal has to be replayed.
    """
    block = SUPERBLOCK.read(Window(copy))
    wanted = block.incompatible | NEEDS_RECOVERY if recover else block.incompatible
    state = block.state & ~STATE_CLEAN  # its counts are old, so the next check is wanted
    changed = SUPERBLOCK.patch(copy, group=0, incompatible=wanted, state=state)
    if block.read_only & _METADATA_CHECKSUMS:
        return SUPERBLOCK.patch(changed, checksum=crc32c(changed[:1020]))
    return changed


def journal_has_news(head: bytes) -> bool:
    """Whether a journal that begins with these bytes holds something to replay. Its fields are
    big-endian.
    """
    return head[:4] == _JOURNAL_MAGIC and any(head[28:32])


def _copy_groups(block: Superblock, groups: int) -> Iterator[int]:
    if block.compatible & _TWO_COPIES:
        yield from (
            number for number in (block.copy_group_one, block.copy_group_two) if 0 < number < groups
        )
    elif not block.read_only & _SPARSE_COPIES:
        yield from range(1, groups)
    else:
        powers = {base**power for base in (3, 5, 7) for power in range(1, 33)}
        yield from (power for power in sorted({1} | powers) if power < groups)


def _has_copy(block: Superblock, group: int) -> bool:
    return not group or group in _copy_groups(block, group + 1)


def _problems(window: Window, block: Superblock) -> list[Problem]:
    found: list[Problem] = []

    def wrong(name: str, code: str, value: object, expected: str) -> None:
        found.append(SUPERBLOCK.wrong(name, window.offset, code, value, expected))

    if block.magic != MAGIC:
        wrong("magic", "magic", hex_preview(window.take(56, 2)), "53 ef")
        return found
    size = block.block_size
    if not size:
        wrong("log_block_kib", "block-size", block.log_block_kib, f"0 to {_MOST_SHIFT}")
    in_clusters = bool(block.read_only & _CLUSTERS)
    if block.first_data_block != (1 if size == 1024 and not in_clusters else 0):
        wrong(
            "first_data_block",
            "first-data-block",
            block.first_data_block,
            "1 with blocks of 1 KiB and no clusters, else 0",
        )
    together = block.log_cluster_kib - block.log_block_kib if in_clusters else 0
    longest = 8 * max(size, 1024) << min(max(together, 0), _MOST_SHIFT_OF_CLUSTERS)
    if not 0 < block.blocks_per_group <= longest:
        wrong("blocks_per_group", "group-length", block.blocks_per_group, f"1 to {longest}")
    if not block.inodes or not block.inodes_per_group:
        wrong("inodes", "no-inodes", block.inodes, "at least one in each group")
    if not block.blocks:
        wrong("blocks_low", "no-blocks", 0, "the length of the volume")
    if block.read_only & _METADATA_CHECKSUMS and crc32c(window.data[:1020]) != block.checksum:
        wrong("checksum", CHECKSUM, f"{block.checksum:08x}", f"{crc32c(window.data[:1020]):08x}")
    return found
