"""A GRUB core in the sectors behind the MBR: found when nothing points to it, checked when
something does.
"""

from collections.abc import Callable, Iterator

import msgspec

from mending.boot.chain import (
    CheckResult,
    Link,
    at_sector,
    doubtful,
    failed,
    finding,
    passed,
    place,
)
from mending.disk.files import Files, FilesUnavailableError, open_files, possible_tops
from mending.disk.layout import Disk, with_arrays, with_logical_volumes
from mending.disk.volume import Volume
from mending.formats import gpt, grub
from mending.formats.grub import GrubImage
from mending.model import FindingId, Lba, Phase, ReadError, RepairId, Severity, Where, Window
from mending.model.limits import CORE_SEARCH_SECTORS

_CORE_FILES = tuple(
    f"{folder}/i386-pc/core.img" for folder in ("boot/grub", "grub", "boot/grub2", "grub2")
)


class SpareCore(msgspec.Struct, frozen=True):
    """A core that an installed system keeps as a file."""

    volume: Volume
    path: str
    data: bytes


def find_core(disk: Disk) -> Lba | None:
    """First sector of a GRUB core in the gap behind the MBR or in a BIOS boot partition, or
    None.
    """
    size = disk.source.bytes_per_sector
    first = min(
        (volume.start for volume in disk.volumes if volume.start > 0), default=CORE_SEARCH_SECTORS
    )
    stretches = [(Lba(1), min(first, CORE_SEARCH_SECTORS) - 1)] if disk.gpt is None else []
    stretches += [(volume.start, 1) for volume in disk.volumes if volume.type == gpt.BIOS_BOOT]
    for start, count in stretches:
        try:
            gap = disk.source.read(at_sector(start, size), count * size)
        except ReadError:
            continue
        for at in range(0, len(gap) - grub.SIZE + 1, size):
            if grub.is_core_head(gap.part(at, grub.SIZE)):
                return Lba(start + at // size)
    return None


def spare_core(disk: Disk) -> SpareCore | None:
    """The core that the installed system keeps as a file, whole and of its own kind; None where
    there is none.
    """
    for volume, files in files_kept(disk):
        for path in _CORE_FILES:
            try:
                found = files.find(path)
                data = files.read(found) if found is not None else b""
            except FilesUnavailableError:
                break
            whole = len(data) > grub.SIZE and grub.is_core_head(Window(data[: grub.SIZE]))
            unpacked = grub.unpack_core(data[grub.SIZE :]) if whole else None
            if found is not None and unpacked is not None and grub.read_image(unpacked) is not None:
                return SpareCore(volume, found.path, data)
    return None


def files_kept(disk: Disk) -> Iterator[tuple[Volume, Files]]:
    """Every volume whose files can be read, in arrays and groups, too; of one with subvolumes each
    that may hold a system.
    """
    source, arrays = with_arrays(disk.source, disk.volumes)
    held = [array.volume for array in arrays if array.volume is not None]
    source, logical = with_logical_volumes(source, [*disk.volumes, *held])
    for volume in (*disk.volumes, *held, *logical):
        try:
            for top in possible_tops(source, volume):
                yield volume, open_files(source, msgspec.structs.replace(volume, top=top))
        except FilesUnavailableError:
            continue


def room_for_core(disk: Disk) -> tuple[Lba, int] | None:
    """First sector and number of sectors where a core may lie: its own partition, or the gap behind
    sector 0.
    """
    if disk.gpt is not None:
        return next(
            (
                (volume.start, volume.sectors)
                for volume in disk.volumes
                if volume.type == gpt.BIOS_BOOT
            ),
            None,
        )
    first = min((volume.start for volume in disk.volumes if volume.start > 0), default=0)
    return (Lba(1), first - 1) if first > 1 else None


def core_repairs(disk: Disk) -> tuple[RepairId, ...]:
    """What answers a core that is gone or damaged."""
    return (
        (RepairId.BOOT_CODE,)
        if spare_core(disk) is not None and room_for_core(disk) is not None
        else ()
    )


def code_repairs(disk: Disk) -> tuple[RepairId, ...]:
    """What answers a volume without boot code of its own: a core that the boot record can load, on
    the disk or as a file.
    """
    return (RepairId.BOOT_CODE,) if find_core(disk) is not None else core_repairs(disk)


def check_core(disk: Disk, lba: Lba, then: Callable[[GrubImage], Link]) -> CheckResult:
    """The check of the core that a stage one names by its first sector.

    Args:
        then: makes the check behind it.
    """
    size = disk.source.bytes_per_sector
    where = Where(offset=at_sector(lba, size), length=grub.SIZE)
    if not 0 < lba < disk.sectors:
        says = f"GRUB's stage one names sector {lba}, which this disk does not have."
        return _broken(disk, FindingId.GRUB_CORE_OUTSIDE, says, where)
    try:
        window = disk.source.read(at_sector(lba, size), grub.SIZE)
    except ReadError as error:
        return _broken(disk, FindingId.GRUB_CORE_UNREADABLE, error.says, where)
    if len(window) < grub.SIZE or not grub.is_core_head(window):
        what = "blank" if window.blank else "something else"
        says = f"GRUB's core should start at sector {lba}, but {what} is there."
        found = place(window.offset, window.data[:16])
        return _broken(disk, FindingId.GRUB_CORE_MISSING, says, found)
    return _check_runs(disk, window, then)


def _broken(disk: Disk, kind: FindingId, says: str, where: Where) -> CheckResult:
    return failed(finding(kind, Severity.FATAL, says, where, core_repairs(disk)))


def _check_runs(disk: Disk, head: Window, then: Callable[[GrubImage], Link]) -> CheckResult:
    reading = grub.read_core_head(head)
    for run in reading.record.runs:
        start, end = run.first_lba, run.first_lba + run.sectors
        if not 0 < start < end <= disk.sectors:
            says = f"GRUB's core names sectors {start} to {end - 1}, which this disk does not have."
            where = Where(offset=head.offset, length=512)
            return _broken(disk, FindingId.GRUB_CORE_OUTSIDE, says, where)
        blank = _blank(disk, run.first_lba, run.sectors)
        if blank is not None:
            says = "The body of GRUB's core is blank."
            return _broken(disk, FindingId.GRUB_CORE_BLANK, says, blank)
    total = 1 + sum(run.sectors for run in reading.record.runs)
    where = Where(offset=head.offset, length=total * grub.SIZE)
    return _check_inside(disk, _body(disk, reading.record), total, where, then)


def _body(disk: Disk, head: grub.CoreHead) -> bytes:
    size = disk.source.bytes_per_sector
    parts = (
        disk.source.read(at_sector(run.first_lba, size), run.sectors * size) for run in head.runs
    )
    return b"".join(part.data for part in parts)


def _check_inside(
    disk: Disk, body: bytes, total: int, where: Where, then: Callable[[GrubImage], Link]
) -> CheckResult:
    """Unpacked as it unpacks itself: a core of which that fails cannot run."""
    packed = grub.packed_core(body)
    data = grub.unpack_core(body)
    image = grub.read_image(data) if data is not None else None
    if image is not None:
        says = (
            f"GRUB's core is whole, {total} sectors, and looks for its files in"
            f" {image.prefix or 'no fixed place'}."
        )
        return passed(Phase.BOOT_MANAGER, says, where, then(image))
    says = "GRUB's core is there; whether it is whole cannot be told from its bytes."
    if packed is None:
        return doubtful(finding(FindingId.GRUB_CORE_NOT_CHECKED, Severity.NOTE, says, where))
    if packed.redundancy:
        mends_itself = FindingId.GRUB_CORE_MENDS_ITSELF
        return doubtful(finding(mends_itself, Severity.WARNING, says, where))
    says = "GRUB's core is damaged: it cannot be unpacked."
    return _broken(disk, FindingId.GRUB_CORE_DAMAGED, says, where)


def _blank(disk: Disk, start: Lba, sectors: int) -> Where | None:
    size = disk.source.bytes_per_sector
    try:
        body = disk.source.read(at_sector(start, size), sectors * size)
    except ReadError as error:
        return Where(offset=error.offset, length=error.length)
    return Where(offset=body.offset, length=len(body)) if body.blank else None
