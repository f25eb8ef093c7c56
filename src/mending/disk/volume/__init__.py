"""One volume: its table entry, its boot sector with the backup, and what it says of itself."""

from mending.disk.volume.boot_sectors import (
    READABLE_DAMAGE,
    BootSector,
    first_superblock_backup,
    look_at_start,
    raid_member,
)
from mending.disk.volume.info import (
    SOUND_FAT,
    copy_at,
    fat_volume,
    mapped_name,
    read_lvm_group,
    read_volume_info,
)
from mending.disk.volume.locks import fve_head, luks_head, whole_fve_heads
from mending.disk.volume.ntfs_info import FirstRecord, file_table_records
from mending.disk.volume.superblock_copies import SuperblockCopy, superblock_copy
from mending.disk.volume.volume import DEFAULT_TOP, Volume

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
