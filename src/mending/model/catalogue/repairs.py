"""Every repair: its id, what it acts on, and the step of the knowledge pack that it carries out."""

from collections.abc import Mapping
from enum import StrEnum

import msgspec


class RepairId(StrEnum):
    """The id of a repair, as people type it; in the order in which repairs build on each other.

    A table comes before what lies in its volumes, a boot sector before the flag that calls it, and
    boot code last: it needs all of them.
    """

    GPT_COPY = "gpt-copy"
    PARTITION_TABLE = "partition-table"
    BOOT_SECTOR = "boot-sector"
    FAT_MIRROR = "fat-mirror"
    SUPERBLOCK = "superblock"
    BOOT_FILES = "boot-files"
    BOOT_ENTRIES = "boot-entries"
    FILE_RESTORE = "file-restore"
    ACTIVE_FLAG = "active-flag"
    BOOT_CODE = "boot-code"
    ROOT_NAME = "root-name"
    ENTRY_KERNEL = "entry-kernel"
    MOUNT_OPTIONAL = "mount-optional"
    DEFAULT_TARGET = "default-target"
    UNIT_OFF = "unit-off"
    HEALTHY_PARTS = "healthy-parts"


class ActsOn(StrEnum):
    """What a repair changes: bytes of a disk, or files of a mounted tree, too."""

    DISK = "disk"
    DISK_AND_TREE = "disk-and-tree"


class RepairRow(msgspec.Struct, frozen=True):
    """What holds for a repair. `step` is its step in the knowledge pack."""

    acts_on: ActsOn
    step: str


REPAIRS: Mapping[RepairId, RepairRow] = {
    RepairId.GPT_COPY: RepairRow(ActsOn.DISK, "copy-partition-table"),
    RepairId.PARTITION_TABLE: RepairRow(ActsOn.DISK, "rebuild-partition-table"),
    RepairId.BOOT_SECTOR: RepairRow(ActsOn.DISK, "restore-boot-sector"),
    RepairId.FAT_MIRROR: RepairRow(ActsOn.DISK, "match-fats"),
    RepairId.SUPERBLOCK: RepairRow(ActsOn.DISK, "restore-superblock"),
    RepairId.BOOT_FILES: RepairRow(ActsOn.DISK, "copy-loader-files"),
    RepairId.BOOT_ENTRIES: RepairRow(ActsOn.DISK_AND_TREE, "add-boot-entries"),
    RepairId.FILE_RESTORE: RepairRow(ActsOn.DISK_AND_TREE, "put-package-files-back"),
    RepairId.ACTIVE_FLAG: RepairRow(ActsOn.DISK, "set-active-flag"),
    RepairId.BOOT_CODE: RepairRow(ActsOn.DISK, "write-boot-code"),
    RepairId.ROOT_NAME: RepairRow(ActsOn.DISK, "correct-volume-name"),
    RepairId.ENTRY_KERNEL: RepairRow(ActsOn.DISK_AND_TREE, "name-sound-kernel"),
    RepairId.MOUNT_OPTIONAL: RepairRow(ActsOn.DISK_AND_TREE, "make-mount-optional"),
    RepairId.DEFAULT_TARGET: RepairRow(ActsOn.DISK_AND_TREE, "set-default-target"),
    RepairId.UNIT_OFF: RepairRow(ActsOn.DISK_AND_TREE, "turn-unit-off"),
    RepairId.HEALTHY_PARTS: RepairRow(ActsOn.DISK, "put-healthy-parts-back"),
}
