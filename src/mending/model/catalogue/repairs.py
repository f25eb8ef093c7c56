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
    NTFS_MIRROR = "ntfs-mirror"
    BOOT_FILES = "boot-files"
    HIVE_LOG = "hive-log"
    HIVE_HEADER = "hive-header"
    HIVE_SET = "hive-set"
    CONTROL_SET = "control-set"
    STORE_DEVICE = "store-device"
    FILE_RESTORE = "file-restore"
    BOOT_ENTRIES = "boot-entries"
    DRIVER_OFF = "driver-off"
    DRIVER_START = "driver-start"
    START_SETTING = "start-setting"
    PENDING_DROP = "pending-drop"
    SIGN_IN_PROGRAM = "sign-in-program"
    DRIVE_LETTER = "drive-letter"
    ACTIVE_FLAG = "active-flag"
    BOOT_CODE = "boot-code"
    ROOT_NAME = "root-name"
    ENTRY_KERNEL = "entry-kernel"
    MOUNT_OPTIONAL = "mount-optional"
    DEFAULT_TARGET = "default-target"
    UNIT_OFF = "unit-off"
    ACCOUNT_COPY = "account-copy"
    START_WORD = "start-word"
    HEALTHY_PARTS = "healthy-parts"


class ActsOn(StrEnum):
    """What a repair changes: bytes of a disk, or files of a mounted tree, too."""

    DISK = "disk"
    DISK_AND_TREE = "disk-and-tree"


class Proof(StrEnum):
    """How a repair was proved when it was made."""

    RUN = "run by real boot code"
    DESCRIPTION = "by description, read back by an independent reader"


class RepairRow(msgspec.Struct, frozen=True):
    """What holds for a repair.

    Attributes:
        step: its step in the knowledge pack.
        proof: how we know that what it writes is right. No hive and no boot configuration that it
            wrote was ever run by the system that it belongs to.
    """

    acts_on: ActsOn
    step: str
    proof: Proof = Proof.RUN


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
    RepairId.ACCOUNT_COPY: RepairRow(ActsOn.DISK_AND_TREE, "put-accounts-back"),
    RepairId.START_WORD: RepairRow(ActsOn.DISK_AND_TREE, "take-start-word-out"),
    RepairId.HIVE_LOG: RepairRow(ActsOn.DISK, "lay-logs-in", Proof.DESCRIPTION),
    RepairId.HIVE_HEADER: RepairRow(ActsOn.DISK, "rebuild-hive-head", Proof.DESCRIPTION),
    RepairId.HIVE_SET: RepairRow(ActsOn.DISK, "put-hive-set-back", Proof.DESCRIPTION),
    RepairId.CONTROL_SET: RepairRow(ActsOn.DISK, "choose-control-set", Proof.DESCRIPTION),
    RepairId.STORE_DEVICE: RepairRow(ActsOn.DISK, "correct-store-devices", Proof.DESCRIPTION),
    RepairId.DRIVER_OFF: RepairRow(ActsOn.DISK, "turn-start-driver-off", Proof.DESCRIPTION),
    RepairId.DRIVER_START: RepairRow(ActsOn.DISK, "start-storage-driver", Proof.DESCRIPTION),
    RepairId.START_SETTING: RepairRow(ActsOn.DISK, "set-next-start", Proof.DESCRIPTION),
    RepairId.PENDING_DROP: RepairRow(ActsOn.DISK, "set-half-done-aside", Proof.DESCRIPTION),
    RepairId.SIGN_IN_PROGRAM: RepairRow(ActsOn.DISK, "set-sign-in-right", Proof.DESCRIPTION),
    RepairId.DRIVE_LETTER: RepairRow(ActsOn.DISK, "lead-letter-back", Proof.DESCRIPTION),
    RepairId.NTFS_MIRROR: RepairRow(ActsOn.DISK, "copy-first-records", Proof.DESCRIPTION),
    RepairId.HEALTHY_PARTS: RepairRow(ActsOn.DISK, "put-healthy-parts-back"),
}
