"""The repairs that this version carries out: for each id of the catalogue, what proposes it."""

from collections.abc import Callable, Container, Mapping

from mending.boot.chain import BootEnvironment, DiskEnvironment, OutOfReachError, Trace
from mending.disk.files import FilesUnavailableError
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import (
    REPAIRS,
    ActsOn,
    Change,
    FileChange,
    FindingId,
    Progress,
    RefusedError,
    RepairId,
    UsageError,
)
from mending.repair import healthy
from mending.repair.base import MendSettings, Proposal, Request, check_common, check_mirrors
from mending.repair.boot import (
    account_copy,
    boot_code,
    boot_entries,
    boot_files,
    default_target,
    entry_kernel,
    mount_optional,
    nt_manager,
    root_name,
    start_word,
    store_device,
    store_entries,
    unit_off,
)
from mending.repair.files import file_restore, nt_restore
from mending.repair.nt import (
    control_set,
    drive_letter,
    driver_off,
    driver_start,
    hive_header,
    hive_log,
    hive_set,
    pending_drop,
    sign_in_program,
    start_setting,
)
from mending.repair.partition import active_flag, gpt_copy, partition_table
from mending.repair.volume import boot_sector, fat_mirror, file_table_mirror, superblock
from mending.source.stitched import FIRST_VIEW

Propose = Callable[[Request], Proposal]


def _by_family(nt: Propose, other: Propose, kinds: Container[str]) -> Propose:
    """A repair that is made in two ways: for what only the nt family has, and for the rest."""

    def propose_either(request: Request) -> Proposal:
        asking = [str(each.id) for each in request.trace.findings if each.repairs]
        return nt(request) if any(kind in kinds for kind in asking) else other(request)

    return propose_either


def _restore(request: Request) -> Proposal:
    """Files of the one family that is on the disk; of both, of that whose finding asks for it."""
    asking = [str(each.id) for each in request.calling_for(RepairId.FILE_RESTORE)]
    families = {
        system.family
        for volume in request.environment.volumes
        if not volume.extended
        for system in request.environment.contents(volume).systems
    }
    is_nt = "linux" not in families if "nt" in families else False
    if is_nt or any(kind in _OF_NT for kind in asking):
        return nt_restore.propose(request)
    return file_restore.propose(request)


_OF_NT = frozenset(
    {
        FindingId.SYSTEM_LOADER_MISSING,
        FindingId.SYSTEM_LOADER_DAMAGED,
        FindingId.BOOT_DRIVER_MISSING,
        FindingId.BOOT_DRIVER_DAMAGED,
        FindingId.BOOT_DRIVER_UNLINKED,
        FindingId.SESSION_PROGRAM_MISSING,
        FindingId.SESSION_PROGRAM_DAMAGED,
        FindingId.SIGN_IN_PROGRAM_MISSING,
        FindingId.SIGN_IN_PROGRAM_DAMAGED,
    }
)
PROPOSERS: Mapping[RepairId, Propose] = {
    RepairId.GPT_COPY: gpt_copy.propose,
    RepairId.PARTITION_TABLE: partition_table.propose,
    RepairId.BOOT_SECTOR: boot_sector.propose,
    RepairId.FAT_MIRROR: fat_mirror.propose,
    RepairId.SUPERBLOCK: superblock.propose,
    RepairId.NTFS_MIRROR: file_table_mirror.propose,
    RepairId.BOOT_FILES: _by_family(nt_manager.propose, boot_files.propose, nt_manager.KINDS),
    RepairId.HIVE_LOG: hive_log.propose,
    RepairId.HIVE_HEADER: hive_header.propose,
    RepairId.HIVE_SET: hive_set.propose,
    RepairId.CONTROL_SET: control_set.propose,
    RepairId.STORE_DEVICE: store_device.propose,
    RepairId.FILE_RESTORE: _restore,
    RepairId.BOOT_ENTRIES: _by_family(
        store_entries.propose, boot_entries.propose, store_entries.KINDS
    ),
    RepairId.DRIVER_OFF: driver_off.propose,
    RepairId.DRIVER_START: driver_start.propose,
    RepairId.START_SETTING: start_setting.propose,
    RepairId.PENDING_DROP: pending_drop.propose,
    RepairId.SIGN_IN_PROGRAM: sign_in_program.propose,
    RepairId.DRIVE_LETTER: drive_letter.propose,
    RepairId.ACTIVE_FLAG: active_flag.propose,
    RepairId.BOOT_CODE: boot_code.propose,
    RepairId.ROOT_NAME: root_name.propose,
    RepairId.ENTRY_KERNEL: entry_kernel.propose,
    RepairId.MOUNT_OPTIONAL: mount_optional.propose,
    RepairId.DEFAULT_TARGET: default_target.propose,
    RepairId.UNIT_OFF: unit_off.propose,
    RepairId.ACCOUNT_COPY: account_copy.propose,
    RepairId.START_WORD: start_word.propose,
    RepairId.HEALTHY_PARTS: healthy.propose,
}


def repair_of(name: str) -> RepairId:
    """The repair of that name.

    Raises:
        UsageError
    """
    try:
        return RepairId(name)
    except ValueError as error:
        raise UsageError(
            f"There is no repair called {name!r}.", f"Repairs: {', '.join(RepairId)}."
        ) from error


def propose(
    repair: RepairId,
    environment: BootEnvironment,
    trace: Trace,
    settings: MendSettings,
    progress: Progress,
) -> Proposal:
    """The changes of one repair.

    Raises:
        RefusedError: a guard says no.
    """
    if environment.disk is None and REPAIRS[repair].acts_on is not ActsOn.DISK_AND_TREE:
        raise RefusedError(
            f"{repair} needs the disk itself and not a mounted tree.",
            "Name the image or the device.",
        )
    locked = environment.disk is not None and not _sees_inside(environment)
    if locked and environment.disk is not None:
        check_common(environment.disk, settings)
    request = Request(environment=environment, trace=trace, settings=settings, progress=progress)
    try:
        proposal = PROPOSERS[repair](request)
    except (OutOfReachError, DamagedHiveError, FilesUnavailableError) as error:
        raise RefusedError(f"{repair} needs files that cannot be read: {error}") from error
    outside = any(_is_outside(change) for change in proposal.changes)
    if environment.disk is not None and not locked and outside:
        check_common(environment.disk, settings)
    if environment.disk is not None:
        check_mirrors(environment.disk, proposal.changes)
    return proposal


def _sees_inside(environment: BootEnvironment) -> bool:
    return isinstance(environment, DiskEnvironment) and environment.has_unlocked


def _is_outside(change: Change) -> bool:
    """Whether a change is of the disk itself and not of what a locked volume holds."""
    return isinstance(change, FileChange) or change.offset < FIRST_VIEW
