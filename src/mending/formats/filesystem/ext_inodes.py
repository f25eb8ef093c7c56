"""Inodes of ext volumes, with their checksums and what they keep in themselves, and the descriptors
that say where the tables of them lie.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "Block Group
Descriptors", "Index Nodes", "Extended Attributes", "Inline Data" and "Checksums".
"""

import struct

import msgspec

from mending.model import Field, FileKind, InputError, Layout, Problem, Reading, Window, crc32c

LEAST_SIZE = 128
"""Bytes of an inode of the oldest revision."""
ROOT = 2
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
    LEAST_SIZE,
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


def read(window: Window, number: int, seed: int | None) -> Reading[Inode]:
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
    extra = int.from_bytes(data[LEAST_SIZE : LEAST_SIZE + 2], "little")
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
    if len(data) < LEAST_SIZE + 8:
        return b""
    start = LEAST_SIZE + int.from_bytes(data[LEAST_SIZE : LEAST_SIZE + 2], "little") + 4
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
