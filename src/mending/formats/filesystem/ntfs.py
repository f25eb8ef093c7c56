"""Boot sectors of NTFS volumes.

Source: the on-disk layout as documented by the Linux NTFS project (its `layout.h`, structure
`NTFS_BOOT_SECTOR`). The copy of the boot sector is the last sector of the partition, which is one
behind the last one the volume counts.
"""

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
