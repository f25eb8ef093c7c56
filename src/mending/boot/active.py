"""The link that needs exactly one active entry."""

from collections.abc import Callable

from mending.boot.codes import CodeKind, recognise_code
from mending.boot.first_file import names_in_code, wanted_file
from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import Disk, Volume, unlisted_starts
from mending.model import Phase, PhaseState, Severity, Where, Window

_PHASE = Phase.BOOT_RECORD
_LAST_PRIMARY = 4


def check_active(disk: Disk, then: Callable[[Volume], Link]) -> Rung:
    """One active entry, neither extended nor outside the disk; then its volume."""
    active = [volume for volume in disk.volumes if volume.active and volume.number <= _LAST_PRIMARY]
    table = Where(offset=446, length=64)
    repairs = ("active-flag",) if len(startable(disk)) == 1 else ()
    if not active:
        repairs = repairs or (("partition-table",) if unlisted_starts(disk) else ())
        says = "No entry of the table is active, and this boot code needs one."
        return failed(finding("no-active-entry", _PHASE, Severity.FATAL, says, table, repairs))
    if len(active) > 1:
        numbers = " and ".join(str(volume.number) for volume in active)
        says = f"Entries {numbers} are both active, and this boot code takes only one."
        return failed(finding("two-active-entries", _PHASE, Severity.FATAL, says, table, repairs))
    return _check_entry(disk, active[0], repairs, then(active[0]))


def startable(disk: Disk) -> list[Volume]:
    """Primary volumes that boot code could start: a sound boot sector with code, and the file that the code names."""
    return [volume for volume in disk.volumes if volume.number <= _LAST_PRIMARY and _could_start(disk, volume)]


def _could_start(disk: Disk, volume: Volume) -> bool:
    if not volume.boot.sound or volume.encrypted or volume.extended or Window(volume.boot.code).blank:
        return False
    kind = recognise_code(Window(volume.boot.data, volume.offset))
    if kind in {CodeKind.BLANK, CodeKind.MESSAGE}:
        return False
    return kind is CodeKind.GRUB or not names_in_code(disk, volume) or wanted_file(disk, volume) is not None


def _check_entry(disk: Disk, volume: Volume, repairs: tuple[str, ...], then: Link) -> Rung:
    where = Where(offset=volume.entry_offset, length=16)
    if volume.extended:
        says = f"The active entry {volume.number} is an extended one, which holds no boot sector of a volume."
        return failed(finding("active-entry-extended", _PHASE, Severity.FATAL, says, where, repairs))
    if not 0 < volume.start < disk.sectors or volume.sectors == 0:
        says = f"The active entry {volume.number} starts at sector {volume.start}; the disk has {disk.sectors}."
        return failed(finding("active-entry-outside", _PHASE, Severity.FATAL, says, where))
    says = f"Entry {volume.number} is the only active one; its volume starts at sector {volume.start}."
    return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, then=then)
