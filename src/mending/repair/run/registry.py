"""The repairs that this version carries out: for each id of the catalogue, what proposes it."""

from collections.abc import Callable, Mapping

from mending.boot.chain import BootEnvironment, OutOfReachError, Trace
from mending.model import (
    REPAIRS,
    ActsOn,
    Progress,
    RefusedError,
    RepairId,
    UsageError,
)
from mending.repair import healthy
from mending.repair.base import MendSettings, Proposal, Request, check_common
from mending.repair.boot import (
    boot_code,
    boot_entries,
    boot_files,
    default_target,
    entry_kernel,
    mount_optional,
    root_name,
    unit_off,
)
from mending.repair.files import file_restore
from mending.repair.partition import active_flag, gpt_copy, partition_table
from mending.repair.volume import boot_sector, fat_mirror, superblock

Propose = Callable[[Request], Proposal]
PROPOSERS: Mapping[RepairId, Propose] = {
    RepairId.GPT_COPY: gpt_copy.propose,
    RepairId.PARTITION_TABLE: partition_table.propose,
    RepairId.BOOT_SECTOR: boot_sector.propose,
    RepairId.FAT_MIRROR: fat_mirror.propose,
    RepairId.SUPERBLOCK: superblock.propose,
    RepairId.BOOT_FILES: boot_files.propose,
    RepairId.BOOT_ENTRIES: boot_entries.propose,
    RepairId.FILE_RESTORE: file_restore.propose,
    RepairId.ACTIVE_FLAG: active_flag.propose,
    RepairId.BOOT_CODE: boot_code.propose,
    RepairId.ROOT_NAME: root_name.propose,
    RepairId.ENTRY_KERNEL: entry_kernel.propose,
    RepairId.MOUNT_OPTIONAL: mount_optional.propose,
    RepairId.DEFAULT_TARGET: default_target.propose,
    RepairId.UNIT_OFF: unit_off.propose,
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
    if environment.disk is not None:
        check_common(environment.disk, settings)
    request = Request(environment=environment, trace=trace, settings=settings, progress=progress)
    try:
        return PROPOSERS[repair](request)
    except OutOfReachError as error:
        raise RefusedError(f"{repair} needs files that cannot be read: {error}") from error
