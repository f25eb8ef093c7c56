"""Every kind of finding that a trace makes: its id, the phase it belongs to, the repairs that may
answer it.

Nothing else spells these ids out. Code names them as members of `FindingId`; the packs and the
pages of `docs/` are checked against the table. What crash records show is not in here: those clues
are rows of the knowledge pack.
"""

from collections.abc import Mapping
from enum import StrEnum

import msgspec

from mending.model.findings import Phase

# Every repair: its id, what it acts on, and the step of the knowledge pack that it carries out.


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


class FindingId(StrEnum):
    """The id of a kind of finding, as JSON documents and packs write it."""

    BOOT_RECORD_UNREADABLE = "boot-record-unreadable"
    BOOT_SIGNATURE_MISSING = "boot-signature-missing"
    PROTECTIVE_RECORD_MISSING = "protective-record-missing"
    HYBRID_RECORD = "hybrid-record"
    GPT_BOTH_DAMAGED = "gpt-both-damaged"
    GPT_PRIMARY_DAMAGED = "gpt-primary-damaged"
    GPT_BACKUP_DAMAGED = "gpt-backup-damaged"
    GPT_COPIES_DIFFER = "gpt-copies-differ"
    GPT_DISK_LARGER = "gpt-disk-larger"
    GPT_DISK_SMALLER = "gpt-disk-smaller"
    GPT_ENTRY_OUTSIDE = "gpt-entry-outside"
    GPT_ENTRIES_OVERLAP = "gpt-entries-overlap"
    GPT_GUIDS_ALIKE = "gpt-guids-alike"
    TABLE_FLAG_ODD = "table-flag-odd"
    TABLE_ENTRY_PAST_END = "table-entry-past-end"
    TABLE_ENTRY_EMPTY = "table-entry-empty"
    TABLE_ENTRY_AT_ZERO = "table-entry-at-zero"
    TABLE_ENTRIES_OVERLAP = "table-entries-overlap"
    TABLE_LOGICAL_LOOP = "table-logical-loop"
    TABLE_LOGICAL_TOO_MANY = "table-logical-too-many"
    TABLE_LOGICAL_OUTSIDE = "table-logical-outside"
    TABLE_LOGICAL_UNREADABLE = "table-logical-unreadable"
    TABLE_LOGICAL_MISSING = "table-logical-missing"
    TABLE_LOGICAL_PAST_END = "table-logical-past-end"
    TABLE_LOGICAL_OVERLAP = "table-logical-overlap"
    ACTIVE_FLAG_UNSET = "active-flag-unset"
    NO_EFI_VOLUME = "no-efi-volume"
    EFI_VOLUME_NOT_MARKED = "efi-volume-not-marked"
    EFI_ENTRY_NEEDED = "efi-entry-needed"
    BOOT_OPTION_PASSED_OVER = "boot-option-passed-over"
    FIRMWARE_FINDS_NOTHING = "firmware-finds-nothing"
    BOOT_OPTIONS_LEAD_NOWHERE = "boot-options-lead-nowhere"
    VOLUME_UNLISTED = "volume-unlisted"

    SECOND_FILE_UNFIT = "second-file-unfit"
    BOOT_CODE_BLANK = "boot-code-blank"
    BOOT_CODE_MESSAGE = "boot-code-message"
    BOOT_CODE_UNKNOWN = "boot-code-unknown"
    NO_ACTIVE_ENTRY = "no-active-entry"
    TWO_ACTIVE_ENTRIES = "two-active-entries"
    ACTIVE_ENTRY_EXTENDED = "active-entry-extended"
    ACTIVE_ENTRY_OUTSIDE = "active-entry-outside"
    VOLUME_ENCRYPTED = "volume-encrypted"
    VOLUME_BOOT_SECTOR_UNREADABLE = "volume-boot-sector-unreadable"
    VOLUME_BOOT_SECTOR_BLANK = "volume-boot-sector-blank"
    VOLUME_BOOT_SECTOR_UNKNOWN = "volume-boot-sector-unknown"
    VOLUME_BOOT_SECTOR_DAMAGED = "volume-boot-sector-damaged"
    VOLUME_BOOT_CODE_BLANK = "volume-boot-code-blank"
    VOLUME_BOOT_CODE_FAILS = "volume-boot-code-fails"
    VOLUME_NOT_BOOTABLE = "volume-not-bootable"
    HIDDEN_SECTORS_WRONG = "hidden-sectors-wrong"
    HIDDEN_SECTORS_DIFFER = "hidden-sectors-differ"
    BOOT_SECTOR_ODD = "boot-sector-odd"
    BACKUP_BOOT_SECTOR_DAMAGED = "backup-boot-sector-damaged"
    BACKUP_BOOT_SECTOR_DIFFERS = "backup-boot-sector-differs"
    VOLUME_LARGER_THAN_ENTRY = "volume-larger-than-entry"
    EFI_VOLUME_DAMAGED = "efi-volume-damaged"
    EFI_LOADER_MISSING = "efi-loader-missing"
    EFI_LOADER_DAMAGED = "efi-loader-damaged"

    FIRST_FILE_MISSING = "first-file-missing"
    FIRST_FILE_EMPTY = "first-file-empty"
    FIRST_FILE_COMPRESSED = "first-file-compressed"
    FIRST_FILE_CUT_SHORT = "first-file-cut-short"
    FIRST_FILE_NOT_CHECKED = "first-file-not-checked"
    MANAGER_MODULE_UNFIT = "manager-module-unfit"
    MANAGER_DRIVER_UNFIT = "manager-driver-unfit"
    MANAGER_MENU_UNFIT = "manager-menu-unfit"
    BOOT_MANAGER_NOT_CHECKED = "boot-manager-not-checked"
    LOADER_CHANGED = "loader-changed"
    SECOND_LOADER_MISSING = "second-loader-missing"
    SECOND_LOADER_DAMAGED = "second-loader-damaged"
    GRUB_CORE_OUTSIDE = "grub-core-outside"
    GRUB_CORE_UNREADABLE = "grub-core-unreadable"
    GRUB_CORE_MISSING = "grub-core-missing"
    GRUB_CORE_BLANK = "grub-core-blank"
    GRUB_CORE_DAMAGED = "grub-core-damaged"
    GRUB_CORE_NOT_CHECKED = "grub-core-not-checked"
    GRUB_CORE_MENDS_ITSELF = "grub-core-mends-itself"
    GRUB_PREFIX_MISSING = "grub-prefix-missing"
    GRUB_PREFIX_UNREADABLE = "grub-prefix-unreadable"
    GRUB_MODULES_MISSING = "grub-modules-missing"
    GRUB_MENU_MISSING = "grub-menu-missing"
    GRUB_MENU_EMPTY = "grub-menu-empty"
    GRUB_MENU_DAMAGED = "grub-menu-damaged"
    GRUB_ENTRY_EMPTY = "grub-entry-empty"
    GRUB_SEARCH_FAILED = "grub-search-failed"
    BOOT_ENTRIES_MISSING = "boot-entries-missing"
    BOOT_ENTRY_HIDDEN = "boot-entry-hidden"
    BOOT_STORE_MISSING = "boot-store-missing"
    BOOT_STORE_DAMAGED = "boot-store-damaged"
    BOOT_STORE_NO_ENTRY = "boot-store-no-entry"
    BOOT_STORE_VOLUME_GONE = "boot-store-volume-gone"
    RECOVERY_UNAVAILABLE = "recovery-unavailable"

    KERNEL_MISSING = "kernel-missing"
    KERNEL_DAMAGED = "kernel-damaged"
    KERNEL_VOLUME_MISSING = "kernel-volume-missing"
    INITRAMFS_MISSING = "initramfs-missing"
    INITRAMFS_EMPTY = "initramfs-empty"
    INITRAMFS_DAMAGED = "initramfs-damaged"
    INITRAMFS_OTHER_KERNEL = "initramfs-other-kernel"
    INITRAMFS_LACKS_PART = "initramfs-lacks-part"
    FILES_NOT_CHECKED = "files-not-checked"
    START_SETTING_LEFT = "start-setting-left"
    SYSTEM_VOLUME_LOST = "system-volume-lost"
    SYSTEM_LOADER_MISSING = "system-loader-missing"
    SYSTEM_LOADER_DAMAGED = "system-loader-damaged"
    HIVE_DAMAGED = "hive-damaged"
    HIVE_DAMAGED_INSIDE = "hive-damaged-inside"
    HIVE_UNFINISHED = "hive-unfinished"
    CONTROL_SET_MISSING = "control-set-missing"
    HIVE_COPIES_WHOLE = "hive-copies-whole"
    HIVE_COPIES_UNFIT = "hive-copies-unfit"
    BOOT_DRIVER_MISSING = "boot-driver-missing"
    BOOT_DRIVER_DAMAGED = "boot-driver-damaged"
    BOOT_DRIVER_UNLINKED = "boot-driver-unlinked"

    ROOT_MISSING = "root-missing"
    ROOT_SUBVOLUME_MISSING = "root-subvolume-missing"
    ROOT_NAME_UNKNOWN = "root-name-unknown"
    ROOT_NAME_TWICE = "root-name-twice"
    ROOT_NAME_FRAGILE = "root-name-fragile"
    ROOT_NOT_CHECKED = "root-not-checked"
    ROOT_SUPERBLOCK_LOST = "root-superblock-lost"
    ROOT_LARGER_THAN_ENTRY = "root-larger-than-entry"
    ROOT_CUT_SHORT = "root-cut-short"
    INIT_MISSING = "init-missing"
    INIT_DAMAGED = "init-damaged"
    INIT_NOT_EXECUTABLE = "init-not-executable"
    INIT_LOADER_MISSING = "init-loader-missing"
    INIT_LIBRARY_UNFIT = "init-library-unfit"
    PART_DIFFERS = "part-differs"
    MODULES_MISSING = "modules-missing"
    RESUME_MISSING = "resume-missing"
    UNLOCK_MISSING = "unlock-missing"
    GROUP_MISSING = "group-missing"
    CLASS_FILTER_GONE = "class-filter-gone"
    DRIVER_CHECKING_LEFT_ON = "driver-checking-left-on"
    IDENTIFIERS_ALIKE = "identifiers-alike"
    VOLUME_UNREADABLE = "volume-unreadable"
    OTHER_BOOT_SECTOR_DAMAGED = "other-boot-sector-damaged"
    VOLUME_HIBERNATED = "volume-hibernated"
    ARRAY_NOT_READ = "array-not-read"
    ARRAY_MEMBER_STALE = "array-member-stale"
    ARRAY_MEMBER_ELSEWHERE = "array-member-elsewhere"
    FOLDER_DAMAGED = "folder-damaged"
    VOLUME_NOT_CHECKED = "volume-not-checked"
    VOLUME_MUCH_SMALLER_THAN_ENTRY = "volume-much-smaller-than-entry"
    FATS_DIFFER = "fats-differ"
    FAT_UNREADABLE = "fat-unreadable"
    FIRST_SUPERBLOCK_LOST = "first-superblock-lost"
    SUPERBLOCK_CHECKSUM = "superblock-checksum"
    SUPERBLOCK_COPY_DAMAGED = "superblock-copy-damaged"
    SUPERBLOCK_COPY_DIFFERS = "superblock-copy-differs"
    ERRORS_RECORDED = "errors-recorded"
    FILE_TABLE_DAMAGED = "file-table-damaged"
    FILE_TABLE_MIRROR_DAMAGED = "file-table-mirror-damaged"
    FILE_TABLE_MIRROR_DIFFERS = "file-table-mirror-differs"
    VOLUME_HEADER_DAMAGED = "volume-header-damaged"

    MOUNT_MISSING = "mount-missing"
    MOUNT_REFUSED = "mount-refused"
    MOUNT_NAME_FRAGILE = "mount-name-fragile"
    ROOT_READ_ONLY = "root-read-only"
    UNIT_ENDS_START = "unit-ends-start"
    UNIT_RESTARTS = "unit-restarts"
    ROOT_FULL = "root-full"
    GOAL_MISSING = "goal-missing"
    GOAL_IS_BARE = "goal-is-bare"
    START_DIVERTED = "start-diverted"
    ACCOUNTS_DAMAGED = "accounts-damaged"
    ACCOUNT_ROW = "account-row"
    SHELL_UNFIT = "shell-unfit"
    LOGIN_UNFIT = "login-unfit"
    SIGN_IN_MODULE_UNFIT = "sign-in-module-unfit"
    SIGN_IN_BARRED = "sign-in-barred"
    SESSION_NOT_CHECKED = "session-not-checked"
    SESSION_PROGRAM_MISSING = "session-program-missing"
    SESSION_PROGRAM_DAMAGED = "session-program-damaged"
    SETUP_UNFINISHED = "setup-unfinished"
    UPDATE_UNFINISHED = "update-unfinished"
    RENAMES_PENDING = "renames-pending"
    DUMPS_OFF = "dumps-off"
    SERVICE_MISSING = "service-missing"

    SIGN_IN_PROGRAM_MISSING = "sign-in-program-missing"
    SIGN_IN_PROGRAM_DAMAGED = "sign-in-program-damaged"
    SIGN_IN_PROGRAM_ADDED = "sign-in-program-added"
    PROFILE_MISSING = "profile-missing"
    PROFILE_SET_ASIDE = "profile-set-aside"
    DRIVE_LETTER_MOVED = "drive-letter-moved"


class FindingRow(msgspec.Struct, frozen=True):
    """What holds for every finding of a kind.

    Attributes:
        phase: the phase that it belongs to, unless it is found on a part of the chain that counts
            as another: a boot sector behind a boot manager, a file system that is the root.
        repairs: those that can answer it, most fitting first; a single finding offers those among
            them that are possible where it was found.
    """

    phase: Phase
    repairs: tuple[RepairId, ...] = ()


def _rows(
    phase: Phase, rows: Mapping[FindingId, tuple[RepairId, ...]]
) -> dict[FindingId, FindingRow]:
    return {kind: FindingRow(phase, repairs) for kind, repairs in rows.items()}


FINDINGS: Mapping[FindingId, FindingRow] = {
    **_rows(
        Phase.FIRMWARE,
        {
            FindingId.BOOT_RECORD_UNREADABLE: (),
            FindingId.BOOT_SIGNATURE_MISSING: (RepairId.PARTITION_TABLE,),
            FindingId.PROTECTIVE_RECORD_MISSING: (RepairId.GPT_COPY,),
            FindingId.HYBRID_RECORD: (),
            FindingId.GPT_BOTH_DAMAGED: (RepairId.PARTITION_TABLE,),
            FindingId.GPT_PRIMARY_DAMAGED: (RepairId.GPT_COPY,),
            FindingId.GPT_BACKUP_DAMAGED: (RepairId.GPT_COPY,),
            FindingId.GPT_COPIES_DIFFER: (),
            FindingId.GPT_DISK_LARGER: (),
            FindingId.GPT_DISK_SMALLER: (),
            FindingId.GPT_ENTRY_OUTSIDE: (),
            FindingId.GPT_ENTRIES_OVERLAP: (),
            FindingId.GPT_GUIDS_ALIKE: (),
            FindingId.TABLE_FLAG_ODD: (),
            FindingId.TABLE_ENTRY_PAST_END: (RepairId.PARTITION_TABLE,),
            FindingId.TABLE_ENTRY_EMPTY: (),
            FindingId.TABLE_ENTRY_AT_ZERO: (),
            FindingId.TABLE_ENTRIES_OVERLAP: (RepairId.PARTITION_TABLE,),
            FindingId.TABLE_LOGICAL_LOOP: (),
            FindingId.TABLE_LOGICAL_TOO_MANY: (),
            FindingId.TABLE_LOGICAL_OUTSIDE: (),
            FindingId.TABLE_LOGICAL_UNREADABLE: (),
            FindingId.TABLE_LOGICAL_MISSING: (),
            FindingId.TABLE_LOGICAL_PAST_END: (),
            FindingId.TABLE_LOGICAL_OVERLAP: (),
            FindingId.ACTIVE_FLAG_UNSET: (),
            FindingId.NO_EFI_VOLUME: (RepairId.PARTITION_TABLE,),
            FindingId.EFI_VOLUME_NOT_MARKED: (),
            FindingId.EFI_ENTRY_NEEDED: (RepairId.BOOT_FILES,),
            FindingId.BOOT_OPTION_PASSED_OVER: (),
            FindingId.FIRMWARE_FINDS_NOTHING: (RepairId.BOOT_FILES,),
            FindingId.BOOT_OPTIONS_LEAD_NOWHERE: (),
            FindingId.VOLUME_UNLISTED: (RepairId.PARTITION_TABLE,),
        },
    ),
    **_rows(
        Phase.BOOT_RECORD,
        {
            FindingId.SECOND_FILE_UNFIT: (),
            FindingId.BOOT_CODE_BLANK: (RepairId.BOOT_CODE,),
            FindingId.BOOT_CODE_MESSAGE: (RepairId.BOOT_CODE,),
            FindingId.BOOT_CODE_UNKNOWN: (RepairId.BOOT_CODE,),
            FindingId.NO_ACTIVE_ENTRY: (RepairId.ACTIVE_FLAG, RepairId.PARTITION_TABLE),
            FindingId.TWO_ACTIVE_ENTRIES: (RepairId.ACTIVE_FLAG, RepairId.PARTITION_TABLE),
            FindingId.ACTIVE_ENTRY_EXTENDED: (RepairId.ACTIVE_FLAG, RepairId.PARTITION_TABLE),
            FindingId.ACTIVE_ENTRY_OUTSIDE: (RepairId.PARTITION_TABLE,),
            FindingId.VOLUME_ENCRYPTED: (),
            FindingId.VOLUME_BOOT_SECTOR_UNREADABLE: (
                RepairId.PARTITION_TABLE,
                RepairId.BOOT_SECTOR,
                RepairId.ACTIVE_FLAG,
            ),
            FindingId.VOLUME_BOOT_SECTOR_BLANK: (
                RepairId.PARTITION_TABLE,
                RepairId.BOOT_SECTOR,
                RepairId.ACTIVE_FLAG,
            ),
            FindingId.VOLUME_BOOT_SECTOR_UNKNOWN: (
                RepairId.PARTITION_TABLE,
                RepairId.BOOT_SECTOR,
                RepairId.ACTIVE_FLAG,
            ),
            FindingId.VOLUME_BOOT_SECTOR_DAMAGED: (
                RepairId.PARTITION_TABLE,
                RepairId.BOOT_SECTOR,
                RepairId.ACTIVE_FLAG,
            ),
            FindingId.VOLUME_BOOT_CODE_BLANK: (
                RepairId.BOOT_SECTOR,
                RepairId.ACTIVE_FLAG,
                RepairId.BOOT_CODE,
            ),
            FindingId.VOLUME_BOOT_CODE_FAILS: (RepairId.BOOT_SECTOR, RepairId.ACTIVE_FLAG),
            FindingId.VOLUME_NOT_BOOTABLE: (RepairId.ACTIVE_FLAG,),
            FindingId.HIDDEN_SECTORS_WRONG: (RepairId.BOOT_SECTOR, RepairId.ACTIVE_FLAG),
            FindingId.HIDDEN_SECTORS_DIFFER: (),
            FindingId.BOOT_SECTOR_ODD: (RepairId.BOOT_SECTOR,),
            FindingId.BACKUP_BOOT_SECTOR_DAMAGED: (),
            FindingId.BACKUP_BOOT_SECTOR_DIFFERS: (),
            FindingId.VOLUME_LARGER_THAN_ENTRY: (RepairId.PARTITION_TABLE,),
            FindingId.EFI_VOLUME_DAMAGED: (RepairId.BOOT_SECTOR, RepairId.PARTITION_TABLE),
            FindingId.EFI_LOADER_MISSING: (RepairId.FAT_MIRROR, RepairId.BOOT_FILES),
            FindingId.EFI_LOADER_DAMAGED: (RepairId.FAT_MIRROR, RepairId.BOOT_FILES),
        },
    ),
    **_rows(
        Phase.BOOT_MANAGER,
        {
            FindingId.FIRST_FILE_MISSING: (RepairId.BOOT_FILES, RepairId.ACTIVE_FLAG),
            FindingId.FIRST_FILE_EMPTY: (RepairId.BOOT_FILES, RepairId.ACTIVE_FLAG),
            FindingId.FIRST_FILE_COMPRESSED: (RepairId.BOOT_FILES, RepairId.ACTIVE_FLAG),
            FindingId.FIRST_FILE_CUT_SHORT: (),
            FindingId.FIRST_FILE_NOT_CHECKED: (),
            FindingId.MANAGER_MODULE_UNFIT: (),
            FindingId.MANAGER_DRIVER_UNFIT: (),
            FindingId.MANAGER_MENU_UNFIT: (),
            FindingId.BOOT_MANAGER_NOT_CHECKED: (),
            FindingId.LOADER_CHANGED: (),
            FindingId.SECOND_LOADER_MISSING: (RepairId.BOOT_FILES,),
            FindingId.SECOND_LOADER_DAMAGED: (RepairId.BOOT_FILES,),
            FindingId.GRUB_CORE_OUTSIDE: (RepairId.BOOT_CODE,),
            FindingId.GRUB_CORE_UNREADABLE: (RepairId.BOOT_CODE,),
            FindingId.GRUB_CORE_MISSING: (RepairId.BOOT_CODE,),
            FindingId.GRUB_CORE_BLANK: (RepairId.BOOT_CODE,),
            FindingId.GRUB_CORE_DAMAGED: (RepairId.BOOT_CODE,),
            FindingId.GRUB_CORE_NOT_CHECKED: (),
            FindingId.GRUB_CORE_MENDS_ITSELF: (),
            FindingId.GRUB_PREFIX_MISSING: (RepairId.PARTITION_TABLE,),
            FindingId.GRUB_PREFIX_UNREADABLE: (RepairId.SUPERBLOCK, RepairId.PARTITION_TABLE),
            FindingId.GRUB_MODULES_MISSING: (),
            FindingId.GRUB_MENU_MISSING: (RepairId.BOOT_ENTRIES,),
            FindingId.GRUB_MENU_EMPTY: (RepairId.BOOT_ENTRIES,),
            FindingId.GRUB_MENU_DAMAGED: (),
            FindingId.GRUB_ENTRY_EMPTY: (),
            FindingId.GRUB_SEARCH_FAILED: (),
            FindingId.BOOT_ENTRIES_MISSING: (RepairId.BOOT_ENTRIES,),
            FindingId.BOOT_ENTRY_HIDDEN: (),
            FindingId.BOOT_STORE_MISSING: (RepairId.BOOT_ENTRIES,),
            FindingId.BOOT_STORE_DAMAGED: (RepairId.HIVE_HEADER, RepairId.BOOT_ENTRIES),
            FindingId.BOOT_STORE_NO_ENTRY: (RepairId.BOOT_ENTRIES,),
            FindingId.BOOT_STORE_VOLUME_GONE: (RepairId.STORE_DEVICE, RepairId.BOOT_ENTRIES),
            FindingId.RECOVERY_UNAVAILABLE: (),
        },
    ),
    **_rows(
        Phase.LOADER,
        {
            FindingId.KERNEL_MISSING: (
                RepairId.FILE_RESTORE,
                RepairId.BOOT_ENTRIES,
                RepairId.ENTRY_KERNEL,
            ),
            FindingId.KERNEL_DAMAGED: (RepairId.FILE_RESTORE, RepairId.ENTRY_KERNEL),
            FindingId.KERNEL_VOLUME_MISSING: (RepairId.PARTITION_TABLE,),
            FindingId.INITRAMFS_MISSING: (RepairId.ENTRY_KERNEL,),
            FindingId.INITRAMFS_EMPTY: (RepairId.ENTRY_KERNEL,),
            FindingId.INITRAMFS_DAMAGED: (RepairId.ENTRY_KERNEL,),
            FindingId.INITRAMFS_OTHER_KERNEL: (RepairId.ENTRY_KERNEL,),
            FindingId.FILES_NOT_CHECKED: (),
            FindingId.HIVE_DAMAGED: (RepairId.HIVE_HEADER, RepairId.HIVE_SET),
            FindingId.HIVE_DAMAGED_INSIDE: (RepairId.HIVE_SET,),
            FindingId.HIVE_UNFINISHED: (),
            FindingId.CONTROL_SET_MISSING: (RepairId.CONTROL_SET, RepairId.HIVE_SET),
            FindingId.HIVE_COPIES_WHOLE: (),
            FindingId.HIVE_COPIES_UNFIT: (),
            FindingId.START_SETTING_LEFT: (RepairId.START_SETTING,),
            FindingId.SYSTEM_VOLUME_LOST: (RepairId.BOOT_SECTOR,),
            FindingId.SYSTEM_LOADER_MISSING: (RepairId.FILE_RESTORE, RepairId.BOOT_ENTRIES),
            FindingId.SYSTEM_LOADER_DAMAGED: (RepairId.FILE_RESTORE,),
            FindingId.BOOT_DRIVER_MISSING: (RepairId.FILE_RESTORE, RepairId.DRIVER_OFF),
            FindingId.BOOT_DRIVER_DAMAGED: (RepairId.FILE_RESTORE, RepairId.DRIVER_OFF),
            FindingId.BOOT_DRIVER_UNLINKED: (RepairId.FILE_RESTORE, RepairId.DRIVER_OFF),
        },
    ),
    **_rows(
        Phase.KERNEL,
        {
            FindingId.INITRAMFS_LACKS_PART: (RepairId.ENTRY_KERNEL,),
            FindingId.ROOT_MISSING: (RepairId.ROOT_NAME, RepairId.PARTITION_TABLE),
            FindingId.ROOT_SUBVOLUME_MISSING: (RepairId.ROOT_NAME,),
            FindingId.ROOT_NAME_UNKNOWN: (),
            FindingId.ROOT_NAME_TWICE: (),
            FindingId.ROOT_NAME_FRAGILE: (),
            FindingId.ROOT_NOT_CHECKED: (),
            FindingId.ROOT_SUPERBLOCK_LOST: (RepairId.SUPERBLOCK,),
            FindingId.ROOT_LARGER_THAN_ENTRY: (RepairId.PARTITION_TABLE,),
            FindingId.ROOT_CUT_SHORT: (),
            FindingId.INIT_MISSING: (RepairId.FILE_RESTORE,),
            FindingId.INIT_DAMAGED: (RepairId.FILE_RESTORE,),
            FindingId.INIT_NOT_EXECUTABLE: (RepairId.FILE_RESTORE,),
            FindingId.INIT_LOADER_MISSING: (RepairId.FILE_RESTORE,),
            FindingId.INIT_LIBRARY_UNFIT: (RepairId.FILE_RESTORE,),
            FindingId.PART_DIFFERS: (RepairId.FILE_RESTORE,),
            FindingId.MODULES_MISSING: (),
            FindingId.RESUME_MISSING: (),
            FindingId.UNLOCK_MISSING: (),
            FindingId.GROUP_MISSING: (),
            FindingId.CLASS_FILTER_GONE: (RepairId.DRIVER_OFF,),
            FindingId.DRIVER_CHECKING_LEFT_ON: (RepairId.START_SETTING,),
            FindingId.IDENTIFIERS_ALIKE: (),
            FindingId.VOLUME_UNREADABLE: (),
            FindingId.OTHER_BOOT_SECTOR_DAMAGED: (RepairId.BOOT_SECTOR,),
            FindingId.VOLUME_HIBERNATED: (),
            FindingId.ARRAY_NOT_READ: (),
            FindingId.ARRAY_MEMBER_STALE: (),
            FindingId.ARRAY_MEMBER_ELSEWHERE: (),
            FindingId.FOLDER_DAMAGED: (),
            FindingId.VOLUME_NOT_CHECKED: (),
            FindingId.VOLUME_MUCH_SMALLER_THAN_ENTRY: (),
            FindingId.FATS_DIFFER: (RepairId.FAT_MIRROR,),
            FindingId.FAT_UNREADABLE: (),
            FindingId.FIRST_SUPERBLOCK_LOST: (RepairId.SUPERBLOCK,),
            FindingId.SUPERBLOCK_CHECKSUM: (RepairId.SUPERBLOCK,),
            FindingId.SUPERBLOCK_COPY_DAMAGED: (),
            FindingId.SUPERBLOCK_COPY_DIFFERS: (),
            FindingId.ERRORS_RECORDED: (),
            FindingId.FILE_TABLE_DAMAGED: (RepairId.NTFS_MIRROR,),
            FindingId.FILE_TABLE_MIRROR_DAMAGED: (RepairId.NTFS_MIRROR,),
            FindingId.FILE_TABLE_MIRROR_DIFFERS: (RepairId.NTFS_MIRROR,),
            FindingId.VOLUME_HEADER_DAMAGED: (),
        },
    ),
    **_rows(
        Phase.SESSION,
        {
            FindingId.MOUNT_MISSING: (
                RepairId.ROOT_NAME,
                RepairId.PARTITION_TABLE,
                RepairId.MOUNT_OPTIONAL,
            ),
            FindingId.MOUNT_REFUSED: (RepairId.MOUNT_OPTIONAL,),
            FindingId.MOUNT_NAME_FRAGILE: (),
            FindingId.ROOT_READ_ONLY: (),
            FindingId.UNIT_ENDS_START: (RepairId.UNIT_OFF,),
            FindingId.UNIT_RESTARTS: (),
            FindingId.ROOT_FULL: (),
            FindingId.GOAL_MISSING: (RepairId.DEFAULT_TARGET,),
            FindingId.GOAL_IS_BARE: (RepairId.DEFAULT_TARGET,),
            FindingId.START_DIVERTED: (RepairId.START_WORD,),
            FindingId.ACCOUNTS_DAMAGED: (RepairId.ACCOUNT_COPY,),
            FindingId.ACCOUNT_ROW: (),
            FindingId.SHELL_UNFIT: (),
            FindingId.LOGIN_UNFIT: (RepairId.FILE_RESTORE,),
            FindingId.SIGN_IN_MODULE_UNFIT: (RepairId.FILE_RESTORE,),
            FindingId.SIGN_IN_BARRED: (),
            FindingId.SESSION_NOT_CHECKED: (),
            FindingId.SESSION_PROGRAM_MISSING: (RepairId.FILE_RESTORE,),
            FindingId.SESSION_PROGRAM_DAMAGED: (RepairId.FILE_RESTORE,),
            FindingId.SETUP_UNFINISHED: (),
            FindingId.UPDATE_UNFINISHED: (),
            FindingId.RENAMES_PENDING: (),
            FindingId.DUMPS_OFF: (),
            FindingId.SERVICE_MISSING: (),
        },
    ),
    **_rows(
        Phase.DESKTOP,
        {
            FindingId.SIGN_IN_PROGRAM_MISSING: (RepairId.SIGN_IN_PROGRAM, RepairId.FILE_RESTORE),
            FindingId.SIGN_IN_PROGRAM_DAMAGED: (RepairId.FILE_RESTORE,),
            FindingId.SIGN_IN_PROGRAM_ADDED: (),
            FindingId.PROFILE_MISSING: (),
            FindingId.PROFILE_SET_ASIDE: (),
            FindingId.DRIVE_LETTER_MOVED: (RepairId.DRIVE_LETTER,),
        },
    ),
}
