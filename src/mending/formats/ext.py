"""Superblocks of ext2, ext3 and ext4 volumes, the first one and its copies.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "The Super
Block", "Layout" and "Checksums".
"""

import struct
import uuid
from collections.abc import Iterator

import msgspec

from mending.model import (
    Field,
    FileKind,
    FolderName,
    InputError,
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


# Inodes of ext volumes, with their checksums and what they keep in themselves, and the descriptors
# that say where the tables of them lie.
#
# Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "Block Group
# Descriptors", "Index Nodes", "Extended Attributes", "Inline Data" and "Checksums".


LEAST_INODE = 128
"""Bytes of an inode of the oldest revision."""
ROOT_INODE = 2
ENCRYPTED, INDEXED, EXTENTS, INLINE, CASELESS = 0x800, 0x1000, 0x8_0000, 0x1000_0000, 0x4000_0000
_KIND, _LINK = 0xF000, 0xA000
_CHECKSUM_AT, _CHECKSUM_HIGH_AT = 124, 130
_HIGH_FROM = 4
"""Bytes behind the first 128 that an inode must use to keep the upper half of its checksum."""
_ATTRIBUTES_MAGIC = 0xEA02_0000
_SYSTEM = 7
"""Index of the name space in which the rest of inline data is kept, by the name `data`."""
_MOST_ATTRIBUTES = 64
_SHORT_LINK = 60
"""A link with a shorter target keeps it in place of the block map."""


class InodeFields(msgspec.Struct, frozen=True):
    """The fields of an inode's first 128 bytes that are used here."""

    mode: int
    size_low: int
    links: int
    sectors: int
    flags: int
    map: bytes
    generation: int
    attributes_block: int
    size_high: int


INODE = Layout(
    InodeFields,
    LEAST_INODE,
    [
        Field("mode", 0, 2, "u", "", "kind of file and permissions"),
        Field("size_low", 4, 4, "u", "bytes", "length, low half"),
        Field("links", 26, 2, "u", "", "names that it has"),
        Field("sectors", 28, 4, "u", "", "512-byte sectors that it takes, low part"),
        Field(
            "flags",
            32,
            4,
            "u",
            "",
            "800 encrypted, 1000 hash tree, 80000 extents, 10000000 inline data",
        ),
        Field("map", 40, 60, "bytes", "", "block map, root of the extents, or the data itself"),
        Field("generation", 100, 4, "u", "", "goes into checksums"),
        Field("attributes_block", 104, 4, "u", "", "block of extended attributes, low half"),
        Field("size_high", 108, 4, "u", "bytes", "length, high half"),
    ],
)


class Inode(FileKind, msgspec.Struct, frozen=True):
    """One file, folder, link or device.

    Attributes:
        mode: permission bits.
        map: the 60 bytes that say where its blocks lie, or that are its data.
        inline: data kept in the inode itself; None where it lies in blocks.
        seed: the register with which checksums of its blocks begin; None where there are none.
    """

    number: int
    fields: InodeFields
    inline: bytes | None
    seed: int | None

    @property
    def length(self) -> int:
        """Bytes of its content."""
        return self.fields.size_high << 32 | self.fields.size_low

    @property
    def mode_bits(self) -> int:
        """Kind of file and permissions."""
        return self.fields.mode

    def has(self, flag: int) -> bool:
        """Whether a flag of its is set."""
        return bool(self.fields.flags & flag)


def read_inode(window: Window, number: int, seed: int | None) -> Reading[Inode]:
    """Read an inode.

    Args:
        window: exactly the inode.
        number: its number, which goes into its checksum.
        seed: the register with which the volume's checksums begin; None where it keeps none.

    Raises:
        InputError: fewer than 128 bytes.
    """
    fields = INODE.read(window)
    problems = []
    if seed is not None:
        seed = crc32c(struct.pack("<II", number & 0xFFFF_FFFF, fields.generation), seed)
        kept, made = _checksums(window.data, seed)
        if kept != made:
            at = window.offset + _CHECKSUM_AT
            problems.append(Problem("inode-checksum", at, 2, f"{kept:x}", f"{made:x}"))
    if not fields.mode & _KIND or not fields.links:
        found = f"{fields.links} names, mode {fields.mode:o}"
        problems.append(Problem("inode-unused", window.offset, 28, found, "an inode in use"))
    return Reading(Inode(number, fields, _inline(window.data, fields), seed), tuple(problems))


def table_block(descriptor: bytes) -> int:
    """Number of the first block of a group's inode table, by the group's descriptor.

    Raises:
        InputError: it is shorter than any.
    """
    if len(descriptor) < 32:
        raise InputError("The descriptor of a group of blocks is cut off.")
    low = int.from_bytes(descriptor[8:12], "little")
    return low | int.from_bytes(descriptor[40:44], "little") << 32


def _checksums(data: bytes, seed: int) -> tuple[int, int]:
    """The checksum that an inode keeps, and the one that its bytes make."""
    low = int.from_bytes(data[_CHECKSUM_AT : _CHECKSUM_AT + 2], "little")
    blank = bytearray(data)
    blank[_CHECKSUM_AT : _CHECKSUM_AT + 2] = bytes(2)
    extra = int.from_bytes(data[LEAST_INODE : LEAST_INODE + 2], "little")
    if len(data) < _CHECKSUM_HIGH_AT + 2 or extra < _HIGH_FROM:
        return low, crc32c(bytes(blank), seed) & 0xFFFF
    blank[_CHECKSUM_HIGH_AT : _CHECKSUM_HIGH_AT + 2] = bytes(2)
    high = int.from_bytes(data[_CHECKSUM_HIGH_AT : _CHECKSUM_HIGH_AT + 2], "little")
    return high << 16 | low, crc32c(bytes(blank), seed)


def _inline(data: bytes, fields: InodeFields) -> bytes | None:
    size = fields.size_high << 32 | fields.size_low
    if fields.flags & INLINE:
        return (fields.map + _rest(data))[:size] if size else b""
    is_link = fields.mode & _KIND == _LINK
    taken = fields.sectors and not fields.attributes_block
    if is_link and size < _SHORT_LINK and not fields.flags & EXTENTS and not taken:
        return fields.map[:size]
    return None


def _rest(data: bytes) -> bytes:
    """What of inline data is kept as an attribute behind the fields of the inode."""
    if len(data) < LEAST_INODE + 8:
        return b""
    start = LEAST_INODE + int.from_bytes(data[LEAST_INODE : LEAST_INODE + 2], "little") + 4
    if data[start - 4 : start] != _ATTRIBUTES_MAGIC.to_bytes(4, "little"):
        return b""
    at = start
    for _ in range(_MOST_ATTRIBUTES):
        if at + 16 > len(data) or not any(data[at : at + 4]):
            return b""
        count, space, value, other, size = struct.unpack_from("<BBHII", data, at)
        if space == _SYSTEM and data[at + 16 : at + 16 + count] == b"data" and not other:
            return data[start + value : start + value + size]
        at += 16 + -(-count // 4) * 4
    return b""


# Nodes of the trees of extents that say where the blocks of a file on an ext4 volume lie.
#
# Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", section "Extent Tree".


EXTENT_MAGIC = 0xF30A
_ROW = 12
_MOST_DEPTH = 5
_MOST_WRITTEN = 32_768
"""A greater length stands for blocks that were given to the file and never written."""


class Extent(msgspec.Struct, frozen=True):
    """Blocks of a file that lie together.

    Attributes:
        first: number of the first one within the file.
        start: its number on the volume; None where the blocks read as zeros.
    """

    first: int
    count: int
    start: int | None


class ExtentNode(msgspec.Struct, frozen=True):
    """A node.

    Attributes:
        depth: levels below it; 0 for one that holds extents.
        children: pairs of the first block within the file and the block of the node below.
    """

    depth: int
    extents: tuple[Extent, ...]
    children: tuple[tuple[int, int], ...]


def read_extents(window: Window, seed: int | None = None) -> Reading[ExtentNode]:
    """Read a node.

    Args:
        window: exactly the node: 60 bytes of an inode, or a block.
        seed: where the checksum behind a block's rows begins; None where there is none.

    Raises:
        InputError: fewer than 12 bytes.
    """
    if len(window) < _ROW:
        raise InputError("A node of extents is cut off.")
    magic, count, most, depth = struct.unpack_from("<HHHH", window.data)
    room = len(window) // _ROW - 1
    nothing = ExtentNode(depth, (), ())
    if magic != EXTENT_MAGIC:
        found = hex_preview(window.take(0, 2))
        return Reading(nothing, (Problem("extents-magic", window.offset, 2, found, "0a f3"),))
    if count > most or most > room or depth > _MOST_DEPTH:
        found = f"{count} of {most} rows, {depth} levels"
        wanted = f"at most {room} rows, {_MOST_DEPTH} levels"
        return Reading(nothing, (Problem("extents-rows", window.offset, 8, found, wanted),))
    problems = []
    end = _ROW * (most + 1)
    if seed is not None and end + 4 <= len(window):
        kept, made = struct.unpack_from("<I", window.data, end)[0], crc32c(window.data[:end], seed)
        if kept != made:
            at = window.offset + end
            problems.append(Problem("extents-checksum", at, 4, f"{kept:08x}", f"{made:08x}"))
    rows = [window.data[_ROW * number : _ROW * (number + 1)] for number in range(1, count + 1)]
    if depth:
        node = ExtentNode(depth, (), tuple(map(_child, rows)))
    else:
        node = ExtentNode(depth, tuple(map(_extent, rows)), ())
    return Reading(node, tuple(problems))


def _child(row: bytes) -> tuple[int, int]:
    first, low, high = struct.unpack_from("<IIH", row)
    return first, high << 32 | low


def _extent(row: bytes) -> Extent:
    first, count, high, low = struct.unpack("<IHHI", row)
    if count > _MOST_WRITTEN:
        return Extent(first, count - _MOST_WRITTEN, None)
    return Extent(first, count, high << 32 | low)


# Blocks of folders on ext volumes that hold names: all of a small folder, and the leaves of a
# large one, which are read one after another. Its other blocks are in `ext_index`.
#
# Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "Directory
# Entries" and "Checksums".


_HEAD = 8
_TAIL, _TAIL_KIND = 12, 0xDE
_LONGEST = 65_536
"""A row as long as the longest block, which does not fit the field, is written as 65535 or 0."""


def folder_rows(block: bytes, base: int, has_kinds: bool) -> tuple[list[FolderName], list[Problem]]:
    """The names in a block.

    Args:
        block: one block, or what an inode keeps of a small folder.
        base: absolute offset of the block, for problems.
        has_kinds: whether rows keep the kind of file beside a length of one byte.
    """
    found: list[FolderName] = []
    at = 0
    while at + _HEAD <= len(block):
        inode, length, count, kind = struct.unpack_from("<IHBB", block, at)
        if not has_kinds:
            count, kind = count | kind << 8, 0
        length = _LONGEST if length in {0, _LONGEST - 1} and len(block) == _LONGEST else length
        if length < _HEAD or at + length > len(block) or (inode and count + _HEAD > length):
            problem = Problem("folder-row", base + at, 8, f"a row of {length} bytes", "a row")
            return found, [problem]
        if inode:
            found.append(FolderName(inode, block[at + _HEAD : at + _HEAD + count], kind))
        at += length
    return found, []


def folder_checksum_problem(block: bytes, base: int, seed: int) -> Problem | None:
    """Whether the checksum in the last row of a block with names fits."""
    if block[-_TAIL:-4] != bytes((0, 0, 0, 0, _TAIL, 0, 0, _TAIL_KIND)):
        at, found = base + len(block) - _TAIL, hex_preview(block[-_TAIL:])
        return Problem("folder-checksum", at, _TAIL, found, "a last row with a checksum")
    kept, made = int.from_bytes(block[-4:], "little"), crc32c(block[:-_TAIL], seed)
    if kept == made:
        return None
    at = base + len(block) - 4
    return Problem("folder-checksum", at, 4, f"{kept:08x}", f"{made:08x}")


# Roots and nodes of the hash tree by which a large folder on an ext volume is searched.
#
# The leaves are usual blocks of rows. The root is the first block of the folder: behind the rows
# `.` and `..` it says how many levels of nodes there are, then come pairs of a hash and the number
# of a block within the folder. A node has the same pairs behind one row without a name. Which block
# is what, only the tree itself tells: where a root or node was a leaf before, its last bytes may
# still look like the end of one.
#
# Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "Hash Tree
# Directories" and "Checksums".


_ROOT_PAIRS, _NODE_PAIRS = 32, 8
"""Where the pairs begin; in place of the first hash stand the room for pairs and their count."""
_PAIR, _EXT_INDEX_TAIL = 8, 8
_INFO_LENGTH, _MOST_LEVELS = 8, 3
_BLOCK_MASK = 0x0FFF_FFFF


class IndexNode(msgspec.Struct, frozen=True):
    """The root of a hash tree, or a node.

    Attributes:
        levels: how many levels of nodes lie below a root; 0 for a node.
        blocks: numbers within the folder of the blocks that it leads to.
    """

    levels: int
    blocks: tuple[int, ...]


def read_index_root(window: Window, seed: int | None) -> Reading[IndexNode]:
    """Read the root: the first block of a folder that has a hash tree.

    Args:
        window: exactly the block.
        seed: the register with which its checksum begins; None where there is none.
    """
    nothing = IndexNode(0, ())
    if len(window) < _ROOT_PAIRS + _PAIR:
        return Reading(nothing, (_problem(window, 0, f"{len(window)} bytes", "a block"),))
    reserved, _kind, length, levels, _flags = struct.unpack_from("<IBBBB", window.data, 24)
    if reserved or length != _INFO_LENGTH or levels >= _MOST_LEVELS:
        found = f"{length} bytes of head, {levels} levels"
        return Reading(nothing, (_problem(window, 24, found, f"{_INFO_LENGTH} bytes, 0 to 2"),))
    return _pairs(window, _ROOT_PAIRS, levels, seed)


def read_index_node(window: Window, seed: int | None) -> Reading[IndexNode]:
    """Read a node between root and leaves. Arguments as of `read_root`."""
    if len(window) < _NODE_PAIRS + _PAIR:
        problem = _problem(window, 0, f"{len(window)} bytes", "a block")
        return Reading(IndexNode(0, ()), (problem,))
    inode, length = struct.unpack_from("<IH", window.data)
    whole = length % 65_535 if len(window) == 65_536 else length - len(window)
    if inode or whole:
        found = f"a row of {length} bytes"
        return Reading(IndexNode(0, ()), (_problem(window, 0, found, "one row without a name"),))
    return _pairs(window, _NODE_PAIRS, 0, seed)


def _pairs(window: Window, start: int, levels: int, seed: int | None) -> Reading[IndexNode]:
    most, count = struct.unpack_from("<HH", window.data, start)
    end, used = start + most * _PAIR, start + count * _PAIR
    tail = 0 if seed is None else _EXT_INDEX_TAIL
    if not 0 < count <= most or end + tail > len(window):
        found = f"{count} of {most} pairs"
        return Reading(IndexNode(0, ()), (_problem(window, start, found, "pairs that fit"),))
    numbers = struct.unpack_from(f"<{2 * count}I", window.data, start)[1::2]
    problems: tuple[Problem, ...] = ()
    if seed is not None:
        reserved, kept = struct.unpack_from("<4sI", window.data, end)
        made = crc32c(reserved + bytes(4), crc32c(window.data[:used], seed))
        if kept != made:
            at = window.offset + end + 4
            problems = (Problem("folder-checksum", at, 4, f"{kept:08x}", f"{made:08x}"),)
    return Reading(IndexNode(levels, tuple(each & _BLOCK_MASK for each in numbers)), problems)


def _problem(window: Window, at: int, found: str, wanted: str) -> Problem:
    return Problem("folder-index", window.offset + at, 8, found, wanted)
