"""Boot sectors of NTFS volumes.

Source: the on-disk layout as documented by the Linux NTFS project (its `layout.h`, structure
`NTFS_BOOT_SECTOR`). The copy of the boot sector is the last sector of the partition, which is one
behind the last one the volume counts.
"""

import struct
from collections.abc import Iterator

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    InputError,
    Layout,
    Problem,
    Reading,
    SectorCount,
    Window,
    hex_preview,
    plain_utf16,
)

SIZE = 512
OEM = b"NTFS    "
_SIGNATURE = 0xAA55


class NtfsFields(msgspec.Struct, frozen=True):
    """The boot sector as it is on the disk."""

    jump: bytes
    oem: bytes
    bytes_per_sector: int
    sectors_per_cluster: int
    media: int
    hidden_sectors: int
    sectors: int
    mft_cluster: int
    mft_mirror_cluster: int
    record_clusters: int
    serial: int
    code: bytes
    signature: int


BOOT_SECTOR = Layout(
    NtfsFields,
    SIZE,
    [
        Field("jump", 0, 3, "bytes", "", "jump over the parameters"),
        Field("oem", 3, 8, "bytes", "", "NTFS and four blanks"),
        Field("bytes_per_sector", 11, 2, "u", "bytes", "sector size"),
        Field(
            "sectors_per_cluster", 13, 1, "s", "sectors", "cluster size; negative: a power of two"
        ),
        Field("media", 21, 1, "u", "", "f8"),
        Field("hidden_sectors", 28, 4, "u", "sectors", "before the volume on this disk"),
        Field("sectors", 40, 8, "u", "sectors", "length, one less than the partition"),
        Field("mft_cluster", 48, 8, "u", "", "where the file table starts"),
        Field("mft_mirror_cluster", 56, 8, "u", "", "where the copy of its first records is"),
        Field(
            "record_clusters",
            64,
            1,
            "s",
            "",
            "size of a file record; negative: 2 to that power bytes",
        ),
        Field("serial", 72, 8, "u", "", "volume identifier"),
        Field("code", 84, 426, "bytes", "", "boot code"),
        Field("signature", 510, 2, "u", "", "55 aa"),
    ],
)


class NtfsVolume(msgspec.Struct, frozen=True):
    """A judged NTFS boot sector."""

    offset: ByteOffset
    fields: NtfsFields

    @property
    def sectors(self) -> SectorCount:
        """Length of the volume in sectors of `fields.bytes_per_sector`, without the copy of the
        boot sector.
        """
        return SectorCount(self.fields.sectors)

    @property
    def cluster_sectors(self) -> int:
        """Sectors in a cluster; 0 when the field makes no sense."""
        raw = self.fields.sectors_per_cluster
        if raw > 0:
            return raw if raw.bit_count() == 1 else 0
        return 1 << -raw if -31 <= raw < 0 else (128 if raw == -128 else 0)

    @property
    def record_bytes(self) -> int:
        """Length of a file record; 0 when the field makes no sense."""
        raw = self.fields.record_clusters
        if raw > 0:
            return raw * self.cluster_sectors * self.fields.bytes_per_sector
        return 1 << -raw if -31 <= raw < 0 else 0


def looks_like(window: Window) -> bool:
    """Whether this sector names itself NTFS."""
    return len(window) >= SIZE and window.take(3, 8) == OEM


def read(window: Window) -> Reading[NtfsVolume]:
    """Read an NTFS boot sector.

    Args:
        window: starts at the boot sector; at least 512 bytes.

    Raises:
        InputError: fewer than 512 bytes.
    """
    volume = NtfsVolume(ByteOffset(window.offset), BOOT_SECTOR.read(window))
    return Reading(volume, tuple(_problems(window, volume)))


def _problems(window: Window, volume: NtfsVolume) -> list[Problem]:
    fields = volume.fields
    found: list[Problem] = []

    def wrong(name: str, code: str, value: object, expected: str) -> None:
        found.append(BOOT_SECTOR.wrong(name, window.offset, code, value, expected))

    if fields.signature != _SIGNATURE:
        wrong("signature", "signature-missing", hex_preview(window.take(510, 2)), "55 aa")
    if fields.oem != OEM:
        wrong("oem", "name-missing", hex_preview(fields.oem), "NTFS")
    if fields.bytes_per_sector not in {256, 512, 1024, 2048, 4096}:
        wrong(
            "bytes_per_sector",
            "sector-size",
            fields.bytes_per_sector,
            "256 to 4096, a power of two",
        )
    if volume.cluster_sectors == 0:
        wrong("sectors_per_cluster", "cluster-size", fields.sectors_per_cluster, "a power of two")
    if fields.sectors == 0:
        wrong("sectors", "no-sectors", 0, "the length of the volume")
    clusters = fields.sectors // (volume.cluster_sectors or 1)
    for name, cluster in (
        ("mft_cluster", fields.mft_cluster),
        ("mft_mirror_cluster", fields.mft_mirror_cluster),
    ):
        if fields.sectors and not 0 < cluster < clusters:
            wrong(name, name.replace("_", "-"), cluster, f"1 to {clusters - 1}")
    return found


# File records of NTFS: the update sequence, attributes, runs of clusters, and what the first
# system files tell.
#
# Source: the on-disk layout as documented by the Linux NTFS project: `layout.h`, structures
# `MFT_RECORD`, `ATTR_RECORD`, `VOLUME_INFORMATION`; `logfile.h`, structures `RESTART_PAGE_HEADER`
# and `RESTART_AREA`.


RECORD_MAGIC = b"FILE"
MFT, MIRROR, LOG, VOLUME, BITMAP = 0, 1, 2, 3, 6
"""Numbers of the system files that are read here."""
MIRRORED = 4
"""Records of which the mirror keeps a copy; more where a cluster holds more."""
ATTRIBUTE_LIST, NAME, INFORMATION, DATA = 0x20, 0x60, 0x70, 0x80
INDEX_ROOT, INDEX_BLOCKS, INDEX_BITMAP, REPARSE = 0x90, 0xA0, 0xB0, 0xC0
COMPRESSED, ENCRYPTED, SPARSE = 0x00FF, 0x4000, 0x8000
RECORD_NUMBER = 0xFFFF_FFFF_FFFF
"""What of a reference is the number of a record; the two bytes above are its sequence."""
_IN_USE, _FOLDER = 1, 2
_MOST_UNIT = 6
"""Usual are 16 clusters together; a damaged exponent must not cost memory."""
DIRTY = 1
_END = 0xFFFFFFFF
_STRIDE = 512
_MOST_RUNS = 4096
"""A record of 4 KiB cannot hold more."""
_LOG_CLEAN, _NO_CLIENT = 2, 0xFFFF


class RecordHead(msgspec.Struct, frozen=True):
    """The head of a file record as it is on the disk."""

    magic: bytes
    sequence_offset: int
    sequence_count: int
    sequence: int
    attributes_offset: int
    flags: int
    used: int
    allocated: int
    base: int


HEAD = Layout(
    RecordHead,
    48,
    [
        Field("magic", 0, 4, "bytes", "", "FILE"),
        Field("sequence_offset", 4, 2, "u", "bytes", "where the update sequence is"),
        Field("sequence_count", 6, 2, "u", "", "numbers in it: one, and one for each 512 bytes"),
        Field("sequence", 16, 2, "u", "", "how often the record was used anew"),
        Field("attributes_offset", 20, 2, "u", "bytes", "first attribute"),
        Field("flags", 22, 2, "u", "", "1 in use, 2 folder"),
        Field("used", 24, 4, "u", "bytes", "length in use"),
        Field("allocated", 28, 4, "u", "bytes", "length of the record"),
        Field(
            "base", 32, 8, "u", "", "the record that this one continues; 0 where it is one itself"
        ),
    ],
)


class Attribute(msgspec.Struct, frozen=True):
    """One attribute, or a piece of one. `value` is None where its bytes lie in clusters of `runs`
    instead.

    Attributes:
        runs: pairs of first cluster (None: a hole) and count.
        bytes: length of the value; 0 in all pieces but the first.
        name: empty for the main one of its type.
        flags: `COMPRESSED`, `ENCRYPTED`, `SPARSE`.
        first: number of the first cluster of this piece within the value.
        initialized: bytes that were ever written; what follows reads as zeros.
        unit: clusters that are compressed together; 1 where none are.
    """

    type: int
    value: bytes | None
    runs: tuple[tuple[int | None, int], ...]
    bytes: int
    name: str = ""
    flags: int = 0
    first: int = 0
    initialized: int = 0
    unit: int = 1


class FileRecord(msgspec.Struct, frozen=True):
    """A record with its update sequence undone; `stable` is what both copies of it have in
    common.
    """

    offset: ByteOffset
    attributes: tuple[Attribute, ...]
    stable: bytes
    in_use: bool = False
    is_folder: bool = False
    sequence: int = 0
    base: int = 0

    def attribute(self, kind: int, name: str = "") -> Attribute | None:
        """The first attribute of a type and name."""
        return next(
            (each for each in self.attributes if each.type == kind and each.name == name), None
        )

    @property
    def label(self) -> str:
        """The name that `$Volume` keeps."""
        name = self.attribute(NAME)
        return plain_utf16(name.value) if name is not None and name.value is not None else ""

    @property
    def dirty(self) -> bool | None:
        """The flag that `$Volume` keeps; None where it is not there."""
        information = self.attribute(INFORMATION)
        if information is None or information.value is None or len(information.value) < 12:
            return None
        return bool(struct.unpack_from("<H", information.value, 10)[0] & DIRTY)


def read_record(window: Window) -> Reading[FileRecord]:
    """Read one file record; damage ends the list of attributes.

    Args:
        window: exactly the record.

    Raises:
        InputError: fewer than 48 bytes.
    """
    head = HEAD.read(window)
    nothing = FileRecord(ByteOffset(window.offset), (), window.data)
    if head.magic != RECORD_MAGIC:
        found = hex_preview(head.magic)
        return Reading(nothing, (Problem("record-magic", window.offset, 4, found, "46 49 4c 45"),))
    data = undone(window.data, head.sequence_offset, head.sequence_count)
    if data is None:
        at, _ = HEAD.span("sequence_offset", window.offset)
        found = f"{head.sequence_count} numbers at {head.sequence_offset}"
        return Reading(
            nothing,
            (Problem("update-sequence", at, 4, found, "numbers that close every 512 bytes"),),
        )
    start, end = head.sequence_offset, head.sequence_offset + 2 * head.sequence_count
    stable = data[:start] + bytes(end - start) + data[end:]
    attributes = tuple(_attributes(data, head.attributes_offset))
    record = FileRecord(
        offset=ByteOffset(window.offset),
        attributes=attributes,
        stable=stable,
        in_use=bool(head.flags & _IN_USE),
        is_folder=bool(head.flags & _FOLDER),
        sequence=head.sequence,
        base=head.base & RECORD_NUMBER,
    )
    return Reading(record)


def log_is_closed(page: bytes) -> bool | None:
    """Whether a log that begins with these bytes has nothing to replay; None where they are no
    restart page.
    """
    if not page.strip(b"\xff"):
        return True  # never used
    if page[:4] != b"RSTR" or len(page) < 64:
        return None
    area = struct.unpack_from("<H", page, 24)[0]
    if area + 16 > len(page):
        return None
    client, flags = struct.unpack_from("<HH", page, area + 12)
    return client == _NO_CLIENT or bool(flags & _LOG_CLEAN)


def undone(raw: bytes, start: int, count: int) -> bytes | None:
    """A record or index block with the last two bytes of every 512 put back; None where the update
    sequence does not fit: it was written half.
    """
    data = bytearray(raw)
    strides = len(data) // _STRIDE
    if count != strides + 1 or start + 2 * count > len(data):
        return None
    number = data[start : start + 2]
    for stride in range(1, strides + 1):
        end = stride * _STRIDE
        if data[end - 2 : end] != number:
            return None
        data[end - 2 : end] = data[start + 2 * stride : start + 2 * stride + 2]
    return bytes(data)


def _attributes(data: bytes, at: int) -> Iterator[Attribute]:
    while at + 24 <= len(data):
        kind, length, away, count, name_at, flags = struct.unpack_from("<IIBBHH", data, at)
        if kind == _END or length < 24 or at + length > len(data):
            return
        body = data[at : at + length]
        name = body[name_at : name_at + 2 * count].decode("utf-16-le", "replace")
        try:
            yield (_clusters if away else _resident)(kind, body, name, flags)
        except (InputError, struct.error):
            return
        at += length


def _resident(kind: int, body: bytes, name: str, flags: int) -> Attribute:
    length, offset = struct.unpack_from("<IH", body, 16)
    value = Window(body).take(offset, length)
    return Attribute(kind, value, (), length, name, flags, initialized=length)


def _clusters(kind: int, body: bytes, name: str, flags: int) -> Attribute:
    first, _, pairs, unit = struct.unpack_from("<QQHH", body, 16)
    length, initialized = struct.unpack_from("<QQ", body, 48) if not first else (0, 0)
    together = 1 << unit if flags & COMPRESSED and 0 < unit <= _MOST_UNIT else 1
    runs = tuple(_runs(body, pairs))
    return Attribute(kind, None, runs, length, name, flags, first, initialized, together)


def _runs(body: bytes, at: int) -> Iterator[tuple[int | None, int]]:
    cluster = 0
    for _ in range(_MOST_RUNS):
        if at >= len(body) or not body[at]:
            return
        wide, far = body[at] & 15, body[at] >> 4
        count = int.from_bytes(body[at + 1 : at + 1 + wide], "little")
        step = body[at + 1 + wide : at + 1 + wide + far]
        cluster += int.from_bytes(step, "little", signed=True)
        yield (cluster if far else None), count
        at += 1 + wide + far


# Indexes of NTFS folders and attribute lists: the entries of a node, and what they name.
#
# Source: the on-disk layout as documented by the Linux NTFS project: `layout.h`, structures
# `INDEX_ROOT`, `INDEX_BLOCK`, `INDEX_HEADER`, `INDEX_ENTRY`, `FILE_NAME_ATTR`, `ATTR_LIST_ENTRY`.


INDEX = "$I30"
"""The name of the index of a folder's names."""
INDEX_MAGIC = b"INDX"
_SHORT_NAME = 2
"""The name space of names for old programs only; the same file has a long one beside it."""
_NTFS_INDEX_FOLDER, _REPARSE, _LAST = 0x1000_0000, 0x400, 2
_NAME_AT = 16
_LEAST_ENTRY, _LEAST_NAME = 16, 66


class NameEntry(msgspec.Struct, frozen=True):
    """A name in a folder.

    Attributes:
        reference: the file record that it stands for, its sequence in the upper two bytes.
        bytes: length of the file as the folder has it, which other names of it may have outdated.
        has_reparse: whether something stands in for its content, which makes it a link, perhaps.
    """

    reference: int
    name: str
    bytes: int
    is_folder: bool
    has_reparse: bool = False


class ListedAttribute(msgspec.Struct, frozen=True):
    """A row of an attribute list: where an attribute, or a piece of one, is kept."""

    type: int
    name: str
    first: int
    reference: int


def root_block_bytes(value: bytes) -> int:
    """How long the blocks of an index are; 0 where its root does not tell."""
    return int(struct.unpack_from("<I", value, 8)[0]) if len(value) >= 16 else 0


def index_names(node: bytes, header: int, base: int) -> tuple[list[NameEntry], list[Problem]]:
    """The names in a node.

    Args:
        node: the root's value, or a block with its update sequence undone.
        header: where the node's header stands in it: 16 in a root, 24 in a block.
        base: absolute offset of the node, for problems.
    """
    if len(node) < header + 16:
        return [], [Problem("index-short", base, len(node), f"{len(node)} bytes", "a node")]
    first, used = struct.unpack_from("<II", node, header)
    at, end = header + first, min(header + used, len(node))
    found: list[NameEntry] = []
    while at + _LEAST_ENTRY <= end:
        reference, length, key, flags = struct.unpack_from("<QHHH", node, at)
        if flags & _LAST:
            return found, []
        if length < _LEAST_ENTRY or at + length > end:
            break
        entry = _name(node[at + _NAME_AT : at + _NAME_AT + key], reference)
        if entry is not None:
            found.append(entry)
        at += length
    return found, [Problem("index-torn", base + at, 2, "no last entry", "entries up to a last one")]


def _name(value: bytes, reference: int) -> NameEntry | None:
    """None for a name that has a longer one beside it, and for what is no name."""
    if len(value) < _LEAST_NAME or value[65] == _SHORT_NAME:
        return None
    length, flags = struct.unpack_from("<QI", value, 48)
    text = value[66 : 66 + 2 * value[64]].decode("utf-16-le", "replace")
    return NameEntry(
        reference, text, length, bool(flags & _NTFS_INDEX_FOLDER), bool(flags & _REPARSE)
    )


def listed_attributes(value: bytes) -> Iterator[ListedAttribute]:
    """The rows of an attribute list; damage ends them."""
    at = 0
    while at + 26 <= len(value):
        kind, length, count, name_at, first, reference = struct.unpack_from("<IHBBQQ", value, at)
        if length < 26 or at + length > len(value):
            return
        name = value[at + name_at : at + name_at + 2 * count].decode("utf-16-le", "replace")
        yield ListedAttribute(kind, name, first, reference)
        at += length


class Reparse(msgspec.Struct, frozen=True):
    """What stands in for the content of a file or folder.

    Attributes:
        tag: which program understands it.
        target: of a link or mount point, with the drive as it is written; empty for others.
        is_relative: whether the target counts from the folder of the link.
    """

    tag: int
    target: str
    is_relative: bool


SYMBOLIC_LINK, MOUNT_POINT, OVERLAY = 0xA000_000C, 0xA000_0003, 0x8000_0017


def reparse(value: bytes) -> Reparse | None:
    """A reparse point; None where it is too short to be one."""
    if len(value) < 8:
        return None
    (tag,) = struct.unpack_from("<I", value)
    if tag not in {SYMBOLIC_LINK, MOUNT_POINT} or len(value) < 20:
        return Reparse(tag, "", False)
    at, length = struct.unpack_from("<HH", value, 8)
    start = 20 if tag == SYMBOLIC_LINK else 16
    relative = tag == SYMBOLIC_LINK and bool(struct.unpack_from("<I", value, 16)[0] & 1)
    names_part = Window(value[start:])
    if at + length > len(names_part):
        return Reparse(tag, "", relative)
    return Reparse(tag, names_part.take(at, length).decode("utf-16-le", "replace"), relative)


# LZNT1, the compression of NTFS: pieces of 4 KiB, each of literals and of pairs that repeat what
# came before.
#
# Source: the published description of the algorithm (open specification of compression algorithms,
# section LZNT1): a piece has a header of two bytes, its length less three in the lower twelve bits,
# and bit 15 set where it is packed; eight flags stand before each eight tokens; how many bits of a
# pair are length hangs on how far the piece has got.


_PIECE = 4096


def unpack_lznt1(data: bytes, most: int) -> bytes:
    """What packed bytes stand for, at most so many.

    Raises:
        InputError: a pair that points before its piece, or a piece that is cut off.
    """
    out = bytearray()
    at = 0
    while at + 2 <= len(data) and len(out) < most:
        header = int.from_bytes(data[at : at + 2], "little")
        if not header:
            break
        end = at + 2 + (header & 0xFFF) + 1
        if end > len(data):
            raise InputError("it cannot be unpacked: a packed piece is cut off.")
        piece = data[at + 2 : end]
        whole = _unpacked(piece) if header & 0x8000 else piece
        out += whole.ljust(_PIECE, b"\0") if end < len(data) else whole
        at = end
    return bytes(out[:most])


def _unpacked(piece: bytes) -> bytes:
    out = bytearray()
    at, end = 0, len(piece)
    while at < end:
        flags, at = piece[at], at + 1
        for bit in range(8):
            if at >= end or len(out) >= _PIECE:
                break
            if not flags >> bit & 1:
                out.append(piece[at])
                at += 1
                continue
            if at + 2 > end or not out:
                raise InputError("it cannot be unpacked: a pair before its piece begins.")
            token, at = int.from_bytes(piece[at : at + 2], "little"), at + 2
            wide = 12 - max((len(out) - 1).bit_length() - 4, 0)
            length, back = (token & (1 << wide) - 1) + 3, (token >> wide) + 1
            if back > len(out):
                raise InputError("it cannot be unpacked: a pair that points before its piece.")
            start = len(out) - back
            if back >= length:
                out += out[start : start + length]
            else:
                out += (out[start:] * (length // back + 1))[:length]
    return bytes(out[:_PIECE])
