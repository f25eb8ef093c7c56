"""The repairs that this version carries out, in the order in which they build on each other.

A table comes before what lies in its volumes, a boot sector before the flag that calls it, and boot code last: it
needs all of them.
"""

from collections.abc import Callable, Mapping
from functools import partial

from mending.boot import ElsewhereError, FolderGrounds, Grounds, Trace
from mending.disk import Progress, survey
from mending.model import RefusedError, UsageError
from mending.repair import (
    active_flag,
    boot_code,
    boot_entries,
    boot_files,
    boot_sector,
    fat_mirror,
    file_restore,
    gpt_copy,
    partition_table,
    root_name,
    superblock,
)
from mending.repair.guards import check_common
from mending.repair.proposal import FilesRequest, Leave, Proposal, Request
from mending.repair.putting import put_in_tree, put_on_disk
from mending.repair.touching import Ground
from mending.source import FolderSource, PatchedFolder

Propose = Callable[[Request], Proposal]

REPAIRS: Mapping[str, Propose] = {
    gpt_copy.REPAIR: gpt_copy.propose,
    partition_table.REPAIR: partition_table.propose,
    boot_sector.REPAIR: boot_sector.propose,
    fat_mirror.REPAIR: fat_mirror.propose,
    superblock.REPAIR: superblock.propose,
    boot_files.REPAIR: boot_files.propose,
    boot_entries.REPAIR: boot_entries.propose,
    file_restore.REPAIR: file_restore.propose,
    active_flag.REPAIR: active_flag.propose,
    boot_code.REPAIR: boot_code.propose,
    root_name.REPAIR: root_name.propose,
}


TREE_REPAIRS: Mapping[str, Callable[[FilesRequest], Proposal]] = {
    boot_entries.REPAIR: boot_entries.propose,
    file_restore.REPAIR: file_restore.propose,
}
"""Those that a mounted tree can be mended by."""


def propose(repair: str, target: Ground, trace: Trace, leave: Leave, progress: Progress) -> Proposal:
    """The changes of one repair.

    Raises:
        UsageError: no such repair.
        RefusedError: a guard says no.
    """
    if repair not in REPAIRS:
        raise UsageError(f"There is no repair called {repair!r}.", f"Repairs: {', '.join(REPAIRS)}.")
    try:
        return _proposed(repair, target, trace, leave, progress)
    except ElsewhereError as error:
        raise RefusedError(f"{repair} needs files that cannot be read: {error}") from error


def _proposed(repair: str, target: Ground, trace: Trace, leave: Leave, progress: Progress) -> Proposal:
    if isinstance(target, FolderSource | PatchedFolder):
        return _propose_in_tree(repair, FolderGrounds(target), trace, leave)
    disk = survey(target)
    check_common(disk, leave)
    request = Request(
        grounds=Grounds(disk), trace=trace, leave=leave, put=partial(put_on_disk, disk), disk=disk, progress=progress
    )
    return REPAIRS[repair](request)


def _propose_in_tree(repair: str, grounds: FolderGrounds, trace: Trace, leave: Leave) -> Proposal:
    if repair not in TREE_REPAIRS:
        raise RefusedError(f"{repair} needs the disk itself and not a mounted tree.", "Name the image or the device.")
    put = partial(put_in_tree, grounds)
    return TREE_REPAIRS[repair](FilesRequest(grounds=grounds, trace=trace, leave=leave, put=put))
