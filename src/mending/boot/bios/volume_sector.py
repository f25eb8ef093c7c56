"""The link that runs the boot sector of the active volume."""

from collections.abc import Callable

from mending.boot.bios.code_kinds import CodeKind, recognise_code
from mending.boot.chain import CheckResult, Link, failed, finding, not_checked, passed, place
from mending.boot.rehearse import can_rehearse, rehearse_code
from mending.boot.volumes import (
    HARMLESS,
    boot_sector_repairs,
    doubts,
    entry_is_beside,
    is_misplaced,
)
from mending.disk.layout import Disk
from mending.disk.volume import Volume
from mending.formats.bootloader import grub
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Lba,
    Phase,
    RepairId,
    Severity,
    Where,
    Window,
)
from mending.model.limits import TRACE_INSTRUCTIONS


def check_volume_sector(
    disk: Disk, volume: Volume, then: Link, core: Callable[[Lba], Link]
) -> CheckResult:
    """Sound, with code, and telling the truth about where it lies.

    Args:
        then: the link behind ordinary code.
        core: makes the link behind a GRUB stage one from the sector it names.
    """
    boot = volume.boot
    if volume.encrypted:
        says = f"Volume {volume.number} is encrypted; what its boot sector starts cannot be read."
        where = place(boot.offset, boot.data)
        return not_checked(finding(FindingId.VOLUME_ENCRYPTED, Severity.NOTE, says, where))
    fault = _broken(disk, volume) or _without_code(disk, volume)
    if fault is not None:
        return failed(fault)
    if _kind_of_code(volume) is CodeKind.GRUB:
        then = core(Lba(grub.STAGE_ONE.read(Window(boot.data)).core_lba))
    if is_misplaced(volume) and _reads_elsewhere(disk, volume):
        return failed(_hidden_wrong(volume), then)
    says = (
        f"The boot sector of volume {volume.number} ({volume.filesystem}) is sound and holds boot"
        " code."
    )
    where = place(boot.offset, boot.data)
    return passed(Phase.BOOT_RECORD, says, where, then).with_findings(*doubts(volume))


def _kind_of_code(volume: Volume) -> CodeKind:
    boot = volume.boot
    unsigned = boot.data[510:512] != b"\x55\xaa"
    if unsigned or Window(boot.code).blank:
        return CodeKind.BLANK
    return recognise_code(Window(boot.data, boot.offset))


def _without_code(disk: Disk, volume: Volume) -> Finding | None:
    """A sound boot sector that nothing can be started by."""
    boot, kind = volume.boot, _kind_of_code(volume)
    if kind is CodeKind.BLANK:
        says = f"The boot sector of volume {volume.number} is sound but holds no boot code."
        where, repairs = place(boot.offset, boot.code), boot_sector_repairs(boot)
        from mending.boot.grub import code_repairs  # noqa: PLC0415 - lazy: see `BiosChain`

        repairs = repairs or code_repairs(disk)
        blank = FindingId.VOLUME_BOOT_CODE_BLANK
        return finding(blank, Severity.FATAL, says, where, repairs)
    if kind is CodeKind.MESSAGE:
        says = (
            f"The boot sector of volume {volume.number} only prints that this is no disk to start"
            " from."
        )
        where = place(boot.offset, boot.data)
        return finding(FindingId.VOLUME_NOT_BOOTABLE, Severity.FATAL, says, where)
    return None


def _reads_elsewhere(disk: Disk, volume: Volume) -> bool:
    """Whether the volume's code, run as an MBR would start it, reads outside its volume and never
    inside.

    Some code calculates with the place that the boot sector names, some with the entry that is
    handed over: running it is the only way to tell. Without the emulator nothing is claimed.
    """
    if not can_rehearse():
        return False
    entry = disk.source.read(volume.entry_offset, 16).data
    reads = rehearse_code(disk.source, volume.boot.data, entry=entry, most=TRACE_INSTRUCTIONS).reads
    inside = [volume.start <= read.lba < volume.start + volume.sectors for read in reads]
    return bool(inside) and not any(inside)


def _hidden_wrong(volume: Volume) -> Finding:
    says = (
        f"The boot sector of volume {volume.number} places it at sector"
        f" {volume.boot.hidden_sectors}, the table at {volume.start}, and its code, run in the"
        " emulator, reads by the former."
    )
    where = Where(offset=volume.offset + 28, length=4, hex=volume.boot.data[28:32].hex(" "))
    return finding(
        FindingId.HIDDEN_SECTORS_WRONG,
        Severity.FATAL,
        says,
        where,
        boot_sector_repairs(volume.boot),
    )


def _broken(disk: Disk, volume: Volume) -> Finding | None:
    boot = volume.boot
    wrong = [problem for problem in boot.problems if problem.code not in HARMLESS]
    if not wrong:
        return None
    first = wrong[0]
    copy = "; its copy is sound" if boot.backup is not None and boot.backup.sound else ""
    if volume.filesystem == FilesystemKind.UNREADABLE:
        code, what = FindingId.VOLUME_BOOT_SECTOR_UNREADABLE, "cannot be read"
    elif Window(boot.data).blank:
        code, what = FindingId.VOLUME_BOOT_SECTOR_BLANK, "is blank"
    elif first.code == "not-a-boot-sector":
        code, what = (
            FindingId.VOLUME_BOOT_SECTOR_UNKNOWN,
            "is not one of a file system that we know",
        )
    else:
        code, what = (
            FindingId.VOLUME_BOOT_SECTOR_DAMAGED,
            f"is damaged ({first.code}: {first.found} instead of {first.expected})",
        )
    says = f"The boot sector of volume {volume.number} {what}{copy}."
    where = Where(offset=first.offset, length=first.length, hex=place(0, boot.data).hex)
    repairs = (
        (RepairId.PARTITION_TABLE,) if entry_is_beside(disk, volume) else boot_sector_repairs(boot)
    )
    return finding(code, Severity.FATAL, says, where, repairs)
