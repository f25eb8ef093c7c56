"""The check of the active entry: usual boot code starts the volume of the one entry that is
marked.
"""

from collections.abc import Callable

from mending.boot.bios.code_kinds import CodeKind, recognise_code
from mending.boot.bios.first_file import names_in_code, wanted_file
from mending.boot.chain import CheckResult, Link, failed, finding, passed
from mending.disk.layout import Disk, find_unlisted_volumes
from mending.disk.volume import Volume
from mending.model import FindingId, Phase, RepairId, Severity, Where, Window
from mending.source import Source

_LAST_PRIMARY = 4


def check_active(disk: Disk, then: Callable[[Volume], Link]) -> CheckResult:
    """One active entry, neither extended nor outside the disk; then its volume."""
    active = [volume for volume in disk.volumes if volume.active and volume.number <= _LAST_PRIMARY]
    table = Where(offset=446, length=64)
    repairs = (RepairId.ACTIVE_FLAG,) if len(startable(disk)) == 1 else ()
    if not active:
        if not repairs and find_unlisted_volumes(disk):
            repairs = (RepairId.PARTITION_TABLE,)
        says = "No entry of the table is active, and this boot code needs one."
        return failed(finding(FindingId.NO_ACTIVE_ENTRY, Severity.FATAL, says, table, repairs))
    if len(active) > 1:
        numbers = " and ".join(str(volume.number) for volume in active)
        says = f"Entries {numbers} are both active, and this boot code takes only one."
        return failed(finding(FindingId.TWO_ACTIVE_ENTRIES, Severity.FATAL, says, table, repairs))
    return _check_entry(disk, active[0], repairs, then(active[0]))


def startable(disk: Disk) -> list[Volume]:
    """Primary volumes that boot code could start."""
    primary = [volume for volume in disk.volumes if volume.number <= _LAST_PRIMARY]
    return [volume for volume in primary if could_start(disk.source, volume)]


def could_start(source: Source, volume: Volume) -> bool:
    """Whether boot code could start a volume: a sound boot sector with code, and the file that the
    code names.
    """
    boot = volume.boot
    if not boot.sound or volume.encrypted or volume.extended or Window(boot.code).blank:
        return False
    kind = recognise_code(Window(boot.data, volume.offset))
    if kind in {CodeKind.BLANK, CodeKind.MESSAGE}:
        return False
    if kind is CodeKind.GRUB or not names_in_code(source, volume).names:
        return True
    return wanted_file(source, volume) is not None


def _check_entry(
    disk: Disk, volume: Volume, repairs: tuple[RepairId, ...], then: Link
) -> CheckResult:
    where = Where(offset=volume.entry_offset, length=16)
    if volume.extended:
        says = (
            f"The active entry {volume.number} is an extended one, which holds no boot sector of a"
            " volume."
        )
        extended = FindingId.ACTIVE_ENTRY_EXTENDED
        return failed(finding(extended, Severity.FATAL, says, where, repairs))
    if not 0 < volume.start < disk.sectors or volume.sectors == 0:
        says = (
            f"The active entry {volume.number} starts at sector {volume.start}; the disk has"
            f" {disk.sectors}."
        )
        return failed(finding(FindingId.ACTIVE_ENTRY_OUTSIDE, Severity.FATAL, says, where))
    says = (
        f"Entry {volume.number} is the only active one; its volume starts at sector {volume.start}."
    )
    return passed(Phase.BOOT_RECORD, says, where, then)
