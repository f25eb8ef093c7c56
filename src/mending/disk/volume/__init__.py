"""One volume: its table entry, its boot sector with the backup, and what it says of itself."""

from mending.disk.volume.boot_sectors import (
    DEFAULT_TOP,
    READABLE_DAMAGE,
    BootSector,
    SuperblockCopy,
    Volume,
    first_superblock_backup,
    fve_head,
    look_at_start,
    luks_head,
    raid_member,
    superblock_copy,
    whole_fve_heads,
)
from mending.disk.volume.info import (
    SOUND_FAT,
    FirstRecord,
    copy_at,
    fat_volume,
    file_table_records,
    mapped_name,
    read_lvm_group,
    read_volume_info,
)

__all__ = [
    "DEFAULT_TOP",
    "READABLE_DAMAGE",
    "SOUND_FAT",
    "BootSector",
    "FirstRecord",
    "SuperblockCopy",
    "Volume",
    "copy_at",
    "fat_volume",
    "file_table_records",
    "first_superblock_backup",
    "fve_head",
    "look_at_start",
    "luks_head",
    "mapped_name",
    "raid_member",
    "read_lvm_group",
    "read_volume_info",
    "superblock_copy",
    "whole_fve_heads",
]
