"""The repairs that this version carries out, in the order in which they build on each other.

A table comes before what lies in its volumes, a boot sector before the flag that calls it, and boot code last: it
needs all of them.
"""

from collections.abc import Callable, Mapping

from mending.boot import Trace
from mending.disk import Progress, survey
from mending.model import UsageError
from mending.repair import (
    active_flag,
    boot_code,
    boot_files,
    boot_sector,
    fat_mirror,
    gpt_copy,
    partition_table,
    root_name,
    superblock,
)
from mending.repair.guards import check_common
from mending.repair.proposal import Leave, Proposal, Request
from mending.source import Source

Propose = Callable[[Request], Proposal]

REPAIRS: Mapping[str, Propose] = {
    gpt_copy.REPAIR: gpt_copy.propose,
    partition_table.REPAIR: partition_table.propose,
    boot_sector.REPAIR: boot_sector.propose,
    fat_mirror.REPAIR: fat_mirror.propose,
    superblock.REPAIR: superblock.propose,
    boot_files.REPAIR: boot_files.propose,
    active_flag.REPAIR: active_flag.propose,
    boot_code.REPAIR: boot_code.propose,
    root_name.REPAIR: root_name.propose,
}


def propose(repair: str, source: Source, trace: Trace, leave: Leave, progress: Progress) -> Proposal:
    """The patches of one repair.

    Raises:
        UsageError: no such repair.
        RefusedError: a guard says no.
    """
    if repair not in REPAIRS:
        raise UsageError(f"There is no repair called {repair!r}.", f"Repairs: {', '.join(REPAIRS)}.")
    disk = survey(source)
    check_common(disk, leave)
    return REPAIRS[repair](Request(disk, trace, leave, progress))
