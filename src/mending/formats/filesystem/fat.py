"""Boot sectors of FAT12, FAT16 and FAT32 volumes.

Sources: ECMA-107 (volume and file structure, FAT12 and FAT16), clause 7; the published FAT32 file
system specification, version 1.03, sections "Boot Sector and BPB" and "FAT Type Determination".
"""

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    FilesystemKind,
    Layout,
    Problem,
    Reading,
    SectorCount,
    Window,
    hex_preview,
    plain_bytes,
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
