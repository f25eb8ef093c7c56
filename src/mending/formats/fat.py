"""Boot sectors of FAT12, FAT16 and FAT32 volumes.

Sources: ECMA-107 (volume and file structure, FAT12 and FAT16), clause 7; the published FAT32 file
system specification, version 1.03, sections "Boot Sector and BPB" and "FAT Type Determination".
"""

import struct
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    FilesystemKind,
    InputError,
    Layout,
    Problem,
    Reading,
    SectorCount,
    Window,
    hex_preview,
    plain_bytes,
    plain_utf16,
)

SIZE = 512
_SIGNATURE, _EXTENDED_SIGNATURES = 0xAA55, {0x28, 0x29}
_SECTOR_SIZES = {512, 1024, 2048, 4096}
_ENTRY_BITS = {FilesystemKind.FAT12: 12, FilesystemKind.FAT16: 16, FilesystemKind.FAT32: 32}
_FAT12_CLUSTERS, _ONE_FAT_ONLY = 4085, 0x80


class FatFields(msgspec.Struct, frozen=True):
    """The part of the boot sector that all three kinds share, as it is on the disk."""

    jump: bytes
    oem: bytes
    bytes_per_sector: int
    sectors_per_cluster: int
    reserved_sectors: int
    fats: int
    root_entries: int
    sectors_16: int
    media: int
    fat_sectors_16: int
    sectors_per_track: int
    heads: int
    hidden_sectors: int
    sectors_32: int
    signature: int


class ShortTail(msgspec.Struct, frozen=True):
    """What follows in FAT12 and FAT16."""

    drive: int
    extended_signature: int
    serial: int
    label: bytes
    code: bytes


class LongTail(msgspec.Struct, frozen=True):
    """What follows in FAT32."""

    fat_sectors: int
    flags: int
    version: int
    root_cluster: int
    info_sector: int
    backup_sector: int
    drive: int
    extended_signature: int
    serial: int
    label: bytes
    code: bytes


COMMON = Layout(
    FatFields,
    SIZE,
    [
        Field("jump", 0, 3, "bytes", "", "jump over the parameters"),
        Field("oem", 3, 8, "bytes", "", "name of the program that formatted"),
        Field("bytes_per_sector", 11, 2, "u", "bytes", "sector size"),
        Field("sectors_per_cluster", 13, 1, "u", "sectors", "cluster size, a power of two"),
        Field("reserved_sectors", 14, 2, "u", "sectors", "before the first FAT"),
        Field("fats", 16, 1, "u", "", "number of FATs"),
        Field("root_entries", 17, 2, "u", "", "entries of the fixed root folder; 0 in FAT32"),
        Field("sectors_16", 19, 2, "u", "sectors", "length if under 65536"),
        Field("media", 21, 1, "u", "", "media byte, f0 or f8 to ff"),
        Field("fat_sectors_16", 22, 2, "u", "sectors", "length of one FAT; 0 in FAT32"),
        Field("sectors_per_track", 24, 2, "u", "sectors", "for CHS"),
        Field("heads", 26, 2, "u", "", "for CHS"),
        Field("hidden_sectors", 28, 4, "u", "sectors", "before the volume on this disk"),
        Field("sectors_32", 32, 4, "u", "sectors", "length if not in the 16-bit field"),
        Field("signature", 510, 2, "u", "", "55 aa"),
    ],
)
SHORT_TAIL = Layout(
    ShortTail,
    SIZE,
    [
        Field("drive", 36, 1, "u", "", "drive number for firmware calls"),
        Field("extended_signature", 38, 1, "u", "", "29 when the next fields are there"),
        Field("serial", 39, 4, "u", "", "volume identifier"),
        Field("label", 43, 11, "bytes", "", "volume label"),
        Field("code", 62, 448, "bytes", "", "boot code"),
    ],
)
LONG_TAIL = Layout(
    LongTail,
    SIZE,
    [
        Field("fat_sectors", 36, 4, "u", "sectors", "length of one FAT"),
        Field("flags", 40, 2, "u", "", "which FAT is in use"),
        Field("version", 42, 2, "u", "", "0"),
        Field("root_cluster", 44, 4, "u", "", "first cluster of the root folder"),
        Field("info_sector", 48, 2, "u", "sectors", "where the free-cluster record is"),
        Field(
            "backup_sector", 50, 2, "u", "sectors", "where the copy of this sector is, usually 6"
        ),
        Field("drive", 64, 1, "u", "", "drive number for firmware calls"),
        Field("extended_signature", 66, 1, "u", "", "29 when the next fields are there"),
        Field("serial", 67, 4, "u", "", "volume identifier"),
        Field("label", 71, 11, "bytes", "", "volume label"),
        Field("code", 90, 420, "bytes", "", "boot code"),
    ],
)


class FatVolume(msgspec.Struct, frozen=True):
    """A judged FAT boot sector.

    Attributes:
        offset: where the sector starts, in bytes.
        kind: `fat12`, `fat16` or `fat32`, by the number of clusters alone, as the specification
            asks.
        clusters: data clusters.
        label: as text; empty when there is none.
    """

    offset: ByteOffset
    fields: FatFields
    tail: ShortTail | LongTail
    kind: FilesystemKind
    clusters: int
    label: str

    @property
    def sectors(self) -> SectorCount:
        """Length of the volume, in sectors of `fields.bytes_per_sector`."""
        return SectorCount(self.fields.sectors_16 or self.fields.sectors_32)

    @property
    def backup_sector(self) -> int | None:
        """Where the copy of the boot sector is, in sectors from the start of the volume; FAT12 and
        FAT16 keep none.
        """
        at = self.tail.backup_sector if isinstance(self.tail, LongTail) else 0
        return at if 0 < at < self.fields.reserved_sectors else None

    @property
    def fat_bytes(self) -> int:
        """Length of one FAT."""
        return _fat_sectors(self.fields, self.tail) * self.fields.bytes_per_sector

    @property
    def fat_offsets(self) -> tuple[int, ...]:
        """Where each FAT starts, in bytes from the start of the volume."""
        start = self.fields.reserved_sectors * self.fields.bytes_per_sector
        return tuple(start + number * self.fat_bytes for number in range(self.fields.fats))

    @property
    def mirrored(self) -> bool:
        """Whether the FATs are meant to be alike; FAT32 can switch that off."""
        return not (isinstance(self.tail, LongTail) and self.tail.flags & _ONE_FAT_ONLY)

    @property
    def fat_in_use(self) -> int:
        """Number of the FAT that is read, from 0."""
        flag = (
            self.tail.flags & 0x0F if isinstance(self.tail, LongTail) and not self.mirrored else 0
        )
        return flag if flag < self.fields.fats else 0

    @property
    def cluster_bytes(self) -> int:
        """Length of a cluster."""
        return self.fields.sectors_per_cluster * self.fields.bytes_per_sector

    @property
    def fixed_root(self) -> tuple[int, int]:
        """Offset and length of the root folder of FAT12 and FAT16, in bytes; its length is 0 in
        FAT32.
        """
        start = (self.fat_offsets or (0,))[-1] + self.fat_bytes
        return start, self.fields.root_entries * 32

    def cluster_offset(self, cluster: int) -> int:
        """Where a cluster starts, in bytes from the start of the volume."""
        size = self.fields.bytes_per_sector
        return (
            _data_start(self.fields, _fat_sectors(self.fields, self.tail)) * size
            + (cluster - 2) * self.cluster_bytes
        )

    @property
    def root_cluster(self) -> int:
        """First cluster of the root folder of FAT32; 0 in the others."""
        return self.tail.root_cluster if isinstance(self.tail, LongTail) else 0

    @property
    def identifier(self) -> str:
        """The serial number as two halves of four digits; empty where there is none."""
        serial = f"{self.tail.serial:08X}"
        return (
            f"{serial[:4]}-{serial[4:]}"
            if self.tail.extended_signature in _EXTENDED_SIGNATURES
            else ""
        )


def looks_like(window: Window) -> bool:
    """Whether this sector could be meant as a FAT boot sector: a jump, a legal sector size and one
    or two FATs.
    """
    if len(window) < SIZE or window.data[0] not in {0xE9, 0xEB}:
        return False
    fields = COMMON.read(window)
    jump = fields.jump[0] == 0xE9 or (fields.jump[0] == 0xEB and fields.jump[2] == 0x90)
    return (
        jump
        and fields.bytes_per_sector in _SECTOR_SIZES
        and fields.fats in {1, 2}
        and fields.reserved_sectors > 0
    )


def read(window: Window) -> Reading[FatVolume]:
    """Read a FAT boot sector; ask `looks_like` first where the kind is unknown.

    Args:
        window: starts at the boot sector; at least 512 bytes.

    Raises:
        InputError: fewer than 512 bytes.
    """
    fields = COMMON.read(window)
    long = fields.fat_sectors_16 == 0 and fields.root_entries == 0
    tail: ShortTail | LongTail = LONG_TAIL.read(window) if long else SHORT_TAIL.read(window)
    clusters = _clusters(fields, tail)
    named = tail.extended_signature in _EXTENDED_SIGNATURES
    label = plain_bytes(tail.label) if named else ""
    volume = FatVolume(
        ByteOffset(window.offset),
        fields,
        tail,
        _kind(clusters, long),
        clusters,
        "" if label == "NO NAME" else label,
    )
    return Reading(volume, tuple(_problems(window, volume)))


def _data_start(fields: FatFields, fat_sectors: int) -> int:
    root = -(-fields.root_entries * 32 // max(fields.bytes_per_sector, 1))
    return fields.reserved_sectors + fields.fats * fat_sectors + root


def _fat_sectors(fields: FatFields, tail: ShortTail | LongTail) -> int:
    return tail.fat_sectors if isinstance(tail, LongTail) else fields.fat_sectors_16


def _clusters(fields: FatFields, tail: ShortTail | LongTail) -> int:
    data = (fields.sectors_16 or fields.sectors_32) - _data_start(
        fields, _fat_sectors(fields, tail)
    )
    return max(data, 0) // max(fields.sectors_per_cluster, 1)


def _kind(clusters: int, long: bool) -> FilesystemKind:
    if long:
        # small FAT32 volumes exist and start; the fields, not the count, tell how to read them
        return FilesystemKind.FAT32
    return FilesystemKind.FAT12 if clusters < _FAT12_CLUSTERS else FilesystemKind.FAT16


def _problems(window: Window, volume: FatVolume) -> list[Problem]:
    fields = volume.fields
    found: list[Problem] = []

    def wrong(name: str, code: str, value: object, expected: str) -> None:
        found.append(COMMON.wrong(name, window.offset, code, value, expected))

    if fields.signature != _SIGNATURE:
        wrong("signature", "signature-missing", hex_preview(window.take(510, 2)), "55 aa")
    if fields.jump[0] not in {0xEB, 0xE9}:
        wrong("jump", "jump-missing", hex_preview(fields.jump), "eb xx 90 or e9 xx xx")
    if fields.bytes_per_sector not in _SECTOR_SIZES:
        wrong("bytes_per_sector", "sector-size", fields.bytes_per_sector, "512, 1024, 2048 or 4096")
    if fields.sectors_per_cluster.bit_count() != 1:
        wrong(
            "sectors_per_cluster",
            "cluster-size",
            fields.sectors_per_cluster,
            "a power of two up to 128",
        )
    if fields.reserved_sectors == 0:
        wrong("reserved_sectors", "no-reserved-sectors", 0, "at least 1")
    if fields.fats not in {1, 2}:
        wrong("fats", "fat-count", fields.fats, "1 or 2")
    if fields.media != 0xF0 and fields.media < 0xF8:
        wrong("media", "media-byte", f"{fields.media:02x}", "f0 or f8 to ff")
    if volume.clusters == 0:
        wrong(
            "sectors_32",
            "no-room-for-data",
            volume.sectors,
            "longer than the FATs and the root folder",
        )
    elif (
        _fat_sectors(fields, volume.tail) * fields.bytes_per_sector * 8
        < (volume.clusters + 2) * _ENTRY_BITS[volume.kind]
    ):
        wrong(
            "fat_sectors_16",
            "fat-too-short",
            _fat_sectors(fields, volume.tail),
            "room for every cluster",
        )
    return found


# The table of a FAT volume and the rows of its folders: chains of clusters, names, and what is odd
# about either.
#
# Sources: the published FAT32 file system specification, version 1.03, sections "FAT Data
# Structure", "FAT Directory Structure" and "FAT Long Directory Entries"; ECMA-107, clauses 10 and
# 11.


ROW = 32
FOLDER, LABEL, LONG_NAME = 0x10, 0x08, 0x0F
_FREE_ROW, _LAST_ROW = 0xE5, 0x00
FIRST_CLUSTER = 2
_STAMP = 0x0021
"""The first day that the format knows: repairs do not tell the time, so that the same one is the
same bytes.
"""
_TAILS = 10_000
_LONG_LAST = 0x40
_LOWER_STEM, _LOWER_ENDING = 0x08, 0x10


class FatWidth(msgspec.Struct, frozen=True, kw_only=True):
    """What depends on the width of a FAT's entries.

    Attributes:
        bits: of an entry; those of FAT32 have 32, of which the upper four are reserved.
        bad: the entry of a cluster that is marked as unreadable.
        least_end: an entry of this much and more ends a chain; `end` is what is written.
        closed: bit of entry 1 that is set while the volume is closed properly; 0 where none is.
        dirty_at: byte of the boot sector in which a running system keeps its flag.
        fixed_root: whether the root folder has a place of its own, outside the clusters.
    """

    bits: int
    bad: int
    least_end: int
    end: int
    closed: int
    dirty_at: int
    fixed_root: bool


WIDTHS: Mapping[FilesystemKind, FatWidth] = {
    FilesystemKind.FAT12: FatWidth(
        bits=12, bad=0xFF7, least_end=0xFF8, end=0xFFF, closed=0, dirty_at=37, fixed_root=True
    ),
    FilesystemKind.FAT16: FatWidth(
        bits=16,
        bad=0xFFF7,
        least_end=0xFFF8,
        end=0xFFFF,
        closed=0x8000,
        dirty_at=37,
        fixed_root=True,
    ),
    FilesystemKind.FAT32: FatWidth(
        bits=32,
        bad=0x0FFFFFF7,
        least_end=0x0FFFFFF8,
        end=0x0FFFFFFF,
        closed=0x08000000,
        dirty_at=65,
        fixed_root=False,
    ),
}


class DirectoryEntry(msgspec.Struct, frozen=True):
    """One file or folder.

    Attributes:
        at: where its own row starts in the folder, in bytes.
        rows: how many rows of long name stand before it.
        name: the long name where there is a sound one, else the short one.
        short: the short name.
    """

    at: int
    rows: int
    name: str
    short: str
    folder: bool
    cluster: int
    bytes: int


def entry_bits(kind: FilesystemKind) -> int:
    """Width of an entry of one of the three kinds."""
    return WIDTHS[kind].bits


def entries(data: bytes, kind: FilesystemKind) -> Sequence[int]:
    """The table as numbers; the four upper bits of a FAT32 entry are reserved and left out."""
    if kind == FilesystemKind.FAT16:
        return struct.unpack(f"<{len(data) // 2}H", data[: len(data) // 2 * 2])
    if kind == FilesystemKind.FAT32:
        whole = struct.unpack(f"<{len(data) // 4}I", data[: len(data) // 4 * 4])
        return [value & 0x0FFFFFFF for value in whole] if max(whole, default=0) >> 28 else whole
    triples = struct.iter_unpack("3B", data[: len(data) // 3 * 3])
    return [
        half
        for low, middle, high in triples
        for half in (low | (middle & 15) << 8, middle >> 4 | high << 4)
    ]


def entry_at(data: bytes, at: int, kind: FilesystemKind) -> int:
    """Entry `at` of a piece of a table that starts with an even entry; 0 where the piece ends
    before it.
    """
    if kind == FilesystemKind.FAT12:
        pair = int.from_bytes(data[at * 3 // 2 : at * 3 // 2 + 2], "little")
        return pair >> 4 if at & 1 else pair & 0xFFF
    width = entry_bits(kind) // 8
    return int.from_bytes(data[at * width : (at + 1) * width], "little") & 0x0FFFFFFF


def closed_properly(table: Sequence[int], kind: FilesystemKind) -> bool | None:
    """What entry 1 says of how the volume was left; None for FAT12, which does not tell."""
    bit = WIDTHS[kind].closed
    return bool(table[1] & bit) if bit and len(table) > 1 else None


def is_end(entry: int, kind: FilesystemKind) -> bool:
    """Whether an entry ends a chain."""
    return entry >= WIDTHS[kind].least_end


def chain(
    table: Sequence[int], first: int, kind: FilesystemKind, clusters: int, most: int | None = None
) -> tuple[list[int], str]:
    """The clusters of a chain, and why it ends too early; empty when it ends as it should.

    Args:
        clusters: how many the volume has; numbers run from 2 to this and one more.
        most: how many are wanted; the rest of the chain is then not followed.
    """
    found: list[int] = []
    seen: set[int] = set()
    at = first
    last = min(clusters + FIRST_CLUSTER, len(table))
    while FIRST_CLUSTER <= at < last:
        if most is not None and len(found) >= most:
            return found, ""
        if at in seen:
            return found, f"comes back to cluster {at}"
        found.append(at)
        seen.add(at)
        following = table[at]
        if is_end(following, kind):
            return found, ""
        if not following:
            return found, f"runs into the free cluster behind {at}"
        at = following
    return found, f"names cluster {at}, which does not exist"


def rows(data: bytes, kind: FilesystemKind) -> Iterator[DirectoryEntry]:
    """The files and folders that the bytes of a folder list, without labels and the two dots."""
    long: list[bytes] = []
    for at in range(0, len(data) - ROW + 1, ROW):
        raw = data[at : at + ROW]
        if raw[0] == _LAST_ROW:
            return
        if raw[11] & 0x3F == LONG_NAME and raw[0] != _FREE_ROW:
            long = [raw] if raw[0] & _LONG_LAST else [*long, raw]
            continue
        if raw[0] not in {_FREE_ROW, ord(".")} and not raw[11] & LABEL:
            high, low, size = struct.unpack("<20xH4xHI", raw)
            short = _short_name(raw)
            name = _long_name(long, raw[:11])
            cluster = high << 16 | low if kind == FilesystemKind.FAT32 else low
            yield DirectoryEntry(
                at,
                len(long) if name else 0,
                name or short,
                short,
                bool(raw[11] & FOLDER),
                cluster,
                size,
            )
        long = []


def short_checksum(name: bytes) -> int:
    """What ties the rows of a long name to the eleven characters of the short one."""
    total = 0
    for byte in name:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    return total


def _short_name(raw: bytes) -> str:
    first = b"\xe5" if raw[0] == 0x05 else raw[:1]  # e5 itself marks a free row
    stem, ending = plain_bytes(first + raw[1:8]).rstrip(), plain_bytes(raw[8:11]).rstrip()
    stem, ending = (
        stem.lower() if raw[12] & _LOWER_STEM else stem,
        ending.lower() if raw[12] & _LOWER_ENDING else ending,
    )
    return f"{stem}.{ending}" if ending else stem


def _long_name(parts: list[bytes], short: bytes) -> str:
    """The name that these rows spell, the last part first; empty where they do not belong to the
    short name.
    """
    wanted = short_checksum(short)
    numbers = [part[0] & 0x3F for part in parts]
    if (
        not parts
        or numbers != list(range(len(parts), 0, -1))
        or any(part[13] != wanted for part in parts)
    ):
        return ""
    text = b"".join(part[1:11] + part[14:26] + part[28:32] for part in reversed(parts))
    return plain_utf16(text)


def volume_label(data: bytes) -> str:
    """The label that the root folder keeps; empty where there is none."""
    for at in range(0, len(data) - ROW + 1, ROW):
        raw = data[at : at + ROW]
        if raw[0] == _LAST_ROW:
            break
        if raw[0] != _FREE_ROW and raw[11] & 0x3F == LABEL:
            return plain_bytes(raw[:11])
    return ""


def new_row(short: bytes, kind: int, first: int, length: int) -> bytes:
    """The row of a file or folder. Args: short: eleven characters; kind: attributes; first: its
    first cluster.
    """
    times = struct.pack(
        "<HHHHHHHI", 0, _STAMP, _STAMP, first >> 16, 0, _STAMP, first & 0xFFFF, length
    )
    return short + bytes((kind, 0, 0)) + times


def free_rows(data: bytes, count: int) -> int | None:
    """Where so many rows in a row are free; None where there is no such place."""
    run = 0
    ended = False
    for at in range(0, len(data) - ROW + 1, ROW):
        ended = ended or data[at] == 0
        run = run + 1 if ended or data[at] == 0xE5 else 0
        if run == count:
            return at - (count - 1) * ROW
    return None


def short_name(name: str, taken: set[str]) -> bytes:
    """Eleven characters; the name itself where it fits, else a part of it with a number."""
    stem, dot, ending = name.rpartition(".") if "." in name.lstrip(".") else (name, "", "")
    plain = _plain(stem)[:8], _plain(ending)[:3]
    whole = "".join((plain[0], "." if plain[1] else "", plain[1]))
    if whole == name.upper() and whole not in taken and name == name.upper():
        return (plain[0].ljust(8) + plain[1].ljust(3)).encode("ascii")
    for number in range(1, _TAILS):
        tail = f"~{number}"
        cut = plain[0][: 8 - len(tail)] + tail
        if (f"{cut}.{plain[1]}" if dot and plain[1] else cut) not in taken:
            return (cut.ljust(8) + plain[1].ljust(3)).encode("ascii")
    raise InputError(f"No short name is free for {name}.")


def _plain(text: str) -> str:
    return "".join(
        name if name.isascii() and (name.isalnum() or name in "_-~") else "_"
        for name in text.upper().replace(" ", "")
    )


def encode_long_name(name: str, short: bytes) -> list[bytes]:
    """The rows of a long name, the last part first; none where the short name says it all."""
    stem = short[:8].decode("cp437").rstrip()
    ending = short[8:].decode("cp437").rstrip()
    if name == (f"{stem}.{ending}" if ending else stem):
        return []
    text = name.encode("utf-16-le")
    parts = -(-len(text) // 26)
    padded = text + (b"\0\0" if len(text) % 26 else b"")
    padded = padded.ljust(parts * 26, b"\xff")
    check = short_checksum(short)
    rows = []
    for number in range(parts, 0, -1):
        piece = padded[(number - 1) * 26 : number * 26]
        head = number | (0x40 if number == parts else 0)
        rows.append(
            bytes([head])
            + piece[:10]
            + bytes([0x0F, 0, check])
            + piece[10:22]
            + b"\0\0"
            + piece[22:]
        )
    return rows
