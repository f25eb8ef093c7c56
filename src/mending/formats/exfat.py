"""Boot regions of exFAT volumes: twelve sectors with a checksum, and a second copy right behind
them.

Source: the published exFAT file system specification 1.00, section 3 "Main and Backup Boot Regions"
(3.1 boot sector, 3.4 boot checksum).
"""

import struct

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    Layout,
    Problem,
    Reading,
    SectorCount,
    Window,
    hex_preview,
    plain_utf16,
)

SIZE = 512
OEM = b"EXFAT   "
REGION_SECTORS = 12
_SIGNATURE = 0xAA55
UNSUMMED = {106, 107, 112}
"""Volume flags and the share in use change all the time and are left out of the checksum."""


VOLUME_DIRTY = 2
"""Flag that is set while the volume is written to."""


class ExfatFields(msgspec.Struct, frozen=True):
    """The boot sector as it is on the disk."""

    jump: bytes
    oem: bytes
    zero: bytes
    partition_offset: int
    sectors: int
    fat_offset: int
    fat_sectors: int
    heap_offset: int
    clusters: int
    root_cluster: int
    serial: int
    flags: int
    sector_shift: int
    cluster_shift: int
    fats: int
    percent: int
    code: bytes
    signature: int


BOOT_SECTOR = Layout(
    ExfatFields,
    SIZE,
    [
        Field("jump", 0, 3, "bytes", "", "eb 76 90"),
        Field("oem", 3, 8, "bytes", "", "EXFAT and three blanks"),
        Field("zero", 11, 53, "bytes", "", "all 00, where FAT keeps its parameters"),
        Field(
            "partition_offset",
            64,
            8,
            "u",
            "sectors",
            "before the volume on this disk; 0 is ignored",
        ),
        Field("sectors", 72, 8, "u", "sectors", "length"),
        Field("fat_offset", 80, 4, "u", "sectors", "where the FAT starts"),
        Field("fat_sectors", 84, 4, "u", "sectors", "length of the FAT"),
        Field("heap_offset", 88, 4, "u", "sectors", "where the clusters start"),
        Field("clusters", 92, 4, "u", "", "number of clusters"),
        Field("root_cluster", 96, 4, "u", "", "first cluster of the root folder"),
        Field("serial", 100, 4, "u", "", "volume identifier"),
        Field("flags", 106, 2, "u", "", "which FAT, dirty"),
        Field("sector_shift", 108, 1, "u", "", "sector size is 2 to this power"),
        Field("cluster_shift", 109, 1, "u", "", "sectors of a cluster are 2 to this power"),
        Field("fats", 110, 1, "u", "", "number of FATs"),
        Field("percent", 112, 1, "u", "percent", "share in use; ff where it is not known"),
        Field("code", 120, 390, "bytes", "", "boot code"),
        Field("signature", 510, 2, "u", "", "55 aa"),
    ],
)


class ExfatVolume(msgspec.Struct, frozen=True):
    """A judged boot region."""

    offset: ByteOffset
    fields: ExfatFields

    @property
    def bytes_per_sector(self) -> int:
        """Sector size in bytes; 0 where the field makes no sense."""
        return 1 << self.fields.sector_shift if 9 <= self.fields.sector_shift <= 12 else 0

    @property
    def sectors(self) -> SectorCount:
        """Length of the volume in its own sectors."""
        return SectorCount(self.fields.sectors)


def looks_like(window: Window) -> bool:
    """Whether this sector names itself exFAT."""
    return len(window) >= SIZE and window.take(3, 8) == OEM


def read(window: Window) -> Reading[ExfatVolume]:
    """Read a boot region.

    Args:
        window: starts at the boot sector; with all twelve sectors the checksum is judged too.

    Raises:
        InputError: fewer than 512 bytes.
    """
    volume = ExfatVolume(ByteOffset(window.offset), BOOT_SECTOR.read(window))
    return Reading(volume, tuple(_problems(window, volume)))


def label(row: bytes) -> str:
    """The label in a row of 32 bytes of the root folder (section 7.3); none in a shorter one."""
    return plain_utf16(row[2 : 2 + 2 * min(row[1], 11)]) if len(row) > 1 else ""


def checksum(region: bytes, bytes_per_sector: int) -> int:
    """The checksum of the first eleven sectors of a region."""
    total = 0
    for at, byte in enumerate(region[: 11 * bytes_per_sector]):
        if at not in UNSUMMED:
            total = ((total >> 1 | (total & 1) << 31) + byte) & 0xFFFFFFFF
    return total


def _problems(window: Window, volume: ExfatVolume) -> list[Problem]:
    fields, size = volume.fields, volume.bytes_per_sector
    found: list[Problem] = []

    def wrong(name: str, code: str, value: object, expected: str) -> None:
        found.append(BOOT_SECTOR.wrong(name, window.offset, code, value, expected))

    if fields.signature != _SIGNATURE:
        wrong("signature", "signature-missing", hex_preview(window.take(510, 2)), "55 aa")
    if fields.oem != OEM:
        wrong("oem", "name-missing", hex_preview(fields.oem), "EXFAT")
    if any(fields.zero):
        wrong("zero", "not-zero", hex_preview(fields.zero), "all 00")
    if not size:
        wrong("sector_shift", "sector-size", fields.sector_shift, "9 to 12")
    if fields.sector_shift + fields.cluster_shift > 25:
        wrong("cluster_shift", "cluster-size", fields.cluster_shift, "clusters of at most 32 MiB")
    if fields.fats not in {1, 2}:
        wrong("fats", "fat-count", fields.fats, "1 or 2")
    if not 2 <= fields.root_cluster <= fields.clusters + 1:
        wrong("root_cluster", "root-cluster", fields.root_cluster, f"2 to {fields.clusters + 1}")
    if size and not found and len(window) >= REGION_SECTORS * size:
        found += _checksum_problem(window, size)
    return found


def _checksum_problem(window: Window, size: int) -> list[Problem]:
    wanted = checksum(window.data, size)
    kept: int = struct.unpack_from("<I", window.take(11 * size, 4))[0]
    at = window.offset + 11 * size
    return [] if kept == wanted else [Problem("checksum", at, 4, f"{kept:08x}", f"{wanted:08x}")]
