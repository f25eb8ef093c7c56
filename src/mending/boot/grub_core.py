"""A GRUB core in the sectors behind the boot record: found when nothing points to it, checked when something does."""

from mending.boot.rungs import Rung, at_sector, failed, finding, place
from mending.disk import Disk
from mending.formats import grub
from mending.model import Lba, Phase, PhaseState, ReadError, Severity, Where, Window
from mending.model.limits import GAP_SECTORS

_PHASE = Phase.BOOT_MANAGER


def find_core(disk: Disk) -> Lba | None:
    """First sector of a GRUB core between the boot record and the first volume, or None."""
    size = disk.source.bytes_per_sector
    first = min((volume.start for volume in disk.volumes if volume.start > 0), default=GAP_SECTORS)
    try:
        gap = disk.source.read(size, (min(first, GAP_SECTORS) - 1) * size)
    except ReadError:
        return None
    for at in range(0, len(gap) - grub.SIZE + 1, size):
        if grub.is_core_head(gap.part(at, grub.SIZE)):
            return Lba(1 + at // size)
    return None


def check_core(disk: Disk, lba: Lba) -> Rung:
    """The rung for the core that a stage one names by its first sector."""
    size = disk.source.bytes_per_sector
    where = Where(offset=at_sector(lba, size), length=grub.SIZE)
    if not 0 < lba < disk.sectors:
        says = f"GRUB's stage one names sector {lba}, which this disk does not have."
        return failed(finding("grub-core-outside", _PHASE, Severity.FATAL, says, where))
    try:
        window = disk.source.read(at_sector(lba, size), grub.SIZE)
    except ReadError as error:
        return failed(finding("grub-core-unreadable", _PHASE, Severity.FATAL, error.says, where))
    if len(window) < grub.SIZE or not grub.is_core_head(window):
        what = "blank" if window.blank else "something else"
        says = f"GRUB's core should start at sector {lba}, but {what} is there."
        return failed(
            finding("grub-core-missing", _PHASE, Severity.FATAL, says, place(window.offset, window.data[:16]))
        )
    return _check_runs(disk, window)


def _check_runs(disk: Disk, head: Window) -> Rung:
    reading = grub.read_core_head(head)
    for run in reading.record.runs:
        start, end = run.first_lba, run.first_lba + run.sectors
        if not 0 < start < end <= disk.sectors:
            says = f"GRUB's core names sectors {start} to {end - 1}, which this disk does not have."
            return failed(
                finding("grub-core-outside", _PHASE, Severity.FATAL, says, Where(offset=head.offset, length=512))
            )
        blank = _blank(disk, run.first_lba, run.sectors)
        if blank is not None:
            return failed(
                finding("grub-core-blank", _PHASE, Severity.FATAL, "The body of GRUB's core is blank.", blank)
            )
    total = 1 + sum(run.sectors for run in reading.record.runs)
    says = f"GRUB's core is there, {total} sectors long."
    return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=Where(offset=head.offset, length=total * 512))


def _blank(disk: Disk, start: Lba, sectors: int) -> Where | None:
    size = disk.source.bytes_per_sector
    try:
        body = disk.source.read(at_sector(start, size), sectors * size)
    except ReadError as error:
        return Where(offset=error.offset, length=error.length)
    return Where(offset=body.offset, length=len(body)) if body.blank else None
