"""The link that runs the boot sector of the active volume."""

from collections.abc import Callable, Collection

from mending.boot.codes import CodeKind, recognise_code
from mending.boot.rehearse import can_rehearse, rehearse_code
from mending.boot.rungs import Link, Rung, failed, finding, place
from mending.boot.volume_faults import entry_is_beside
from mending.disk import BootSector, Disk, Volume
from mending.formats import grub
from mending.model import Finding, Lba, Phase, PhaseState, Severity, Where, Window
from mending.model.limits import TRACE_INSTRUCTIONS

_PHASE = Phase.BOOT_RECORD
_HARMLESS = {"media-byte", "fat-too-short"}
"""Problems that boot code gets past; all others are in numbers it calculates with."""


def check_volume_sector(disk: Disk, volume: Volume, then: Link, core: Callable[[Lba], Link]) -> Rung:
    """Sound, with code, and telling the truth about where it lies.

    Args:
        then: the link behind ordinary code.
        core: makes the link behind a GRUB stage one from the sector it names.
    """
    boot = volume.boot
    if volume.encrypted:
        says = f"Volume {volume.number} is encrypted; what its boot sector starts cannot be read."
        where = place(boot.offset, boot.data)
        note = finding("volume-encrypted", _PHASE, Severity.NOTE, says, where)
        return Rung(phase=_PHASE, state=PhaseState.NOT_CHECKED, says=says, where=where, findings=(note,))
    broken = _broken(disk, volume)
    if broken is not None:
        return failed(broken)
    unsigned = boot.data[510:512] != b"\x55\xaa"
    kind = CodeKind.BLANK if unsigned or Window(boot.code).blank else recognise_code(Window(boot.data, boot.offset))
    if kind is CodeKind.BLANK:
        says = f"The boot sector of volume {volume.number} is sound but holds no boot code."
        where = place(boot.offset, boot.code)
        return failed(finding("volume-boot-code-blank", _PHASE, Severity.FATAL, says, where, _repairs(boot)))
    if kind is CodeKind.MESSAGE:
        says = f"The boot sector of volume {volume.number} only prints that this is no disk to start from."
        where = place(boot.offset, boot.data)
        return failed(finding("volume-not-bootable", _PHASE, Severity.FATAL, says, where))
    if kind is CodeKind.GRUB:
        then = core(Lba(grub.STAGE_ONE.read(Window(boot.data)).core_lba))
    if _misplaced(volume) and _reads_elsewhere(disk, volume):
        return failed(_hidden_wrong(volume), then)
    says = f"The boot sector of volume {volume.number} ({volume.filesystem}) is sound and holds boot code."
    where = place(boot.offset, boot.data)
    notes = tuple(doubts(volume))
    return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, findings=notes, then=then)


def doubts(volume: Volume, harmless: Collection[str] = _HARMLESS) -> list[Finding]:
    """What is odd about a boot sector that works all the same. Args: harmless: codes of problems that are got past."""
    boot, found = volume.boot, []

    def odd(code: str, says: str, where: Where, repairs: tuple[str, ...] = ()) -> None:
        found.append(finding(code, _PHASE, Severity.WARNING, says, where, repairs))

    if boot.backup is not None and not boot.backup.sound:
        odd(
            "backup-boot-sector-damaged",
            f"The copy of the boot sector of volume {volume.number} is damaged.",
            _at(boot),
        )
    elif boot.sound and boot.backup is not None and not boot.backup.agrees:
        says = f"The boot sector of volume {volume.number} and its copy differ; both are sound."
        odd("backup-boot-sector-differs", says, _at(boot))
    if _misplaced(volume):
        says = f"Volume {volume.number} believes to lie at sector {boot.hidden_sectors}; the table says {volume.start}."
        odd("hidden-sectors-differ", says, Where(offset=boot.offset + 28, length=4))
    if boot.sectors * boot.bytes_per_sector > volume.bytes:
        says = f"Volume {volume.number} believes to be longer than its entry in the table."
        odd("volume-larger-than-entry", says, Where(offset=volume.entry_offset, length=16))
    for problem in boot.problems:
        if problem.code in harmless:
            what = f"{problem.code}, found {problem.found}, expected {problem.expected}"
            says = f"Boot sector of volume {volume.number}: {what}."
            odd("boot-sector-odd", says, Where(offset=problem.offset, length=problem.length), _repairs(boot))
    return found


def damage_aside(volume: Volume) -> list[Finding]:
    """Damage of the first sector of a volume that nothing starts from; a system on it, or its data, are out of reach.

    An entry behind which nothing is known may be meant for something else, and is no damage.
    """
    if volume.filesystem in {"unknown", "blank"} or not volume.boot.problems:
        return []
    first = volume.boot.problems[0]
    where = Where(offset=first.offset, length=first.length, hex=place(0, volume.boot.data).hex)
    if volume.filesystem == "unreadable":
        says = f"The first sector of volume {volume.number} cannot be read."
        return [finding("volume-unreadable", Phase.KERNEL, Severity.WARNING, says, where)]
    copy = "; its copy is sound" if _repairs(volume.boot) else ""
    says = f"The boot sector of volume {volume.number} ({volume.filesystem}) is damaged: {first.found}{copy}."
    return [finding("other-boot-sector-damaged", Phase.KERNEL, Severity.WARNING, says, where, _repairs(volume.boot))]


def _misplaced(volume: Volume) -> bool:
    boot = volume.boot
    return volume.active and boot.bytes_per_sector > 0 and boot.hidden_sectors != volume.start


def _reads_elsewhere(disk: Disk, volume: Volume) -> bool:
    """Whether the volume's code, run as a boot record would start it, reads outside its volume and never inside.

    Some code calculates with the place that the boot sector names, some with the entry that is handed over: running it
    is the only way to tell. Without the emulator nothing is claimed.
    """
    if not can_rehearse():
        return False
    entry = disk.source.read(volume.entry_offset, 16).data
    reads = rehearse_code(disk.source, volume.boot.data, entry=entry, most=TRACE_INSTRUCTIONS).reads
    inside = [volume.start <= read.lba < volume.start + volume.sectors for read in reads]
    return bool(inside) and not any(inside)


def _hidden_wrong(volume: Volume) -> Finding:
    says = (
        f"The boot sector of volume {volume.number} places it at sector {volume.boot.hidden_sectors}, the table at "
        f"{volume.start}, and its code, run in the emulator, reads by the former."
    )
    where = Where(offset=volume.offset + 28, length=4, hex=volume.boot.data[28:32].hex(" "))
    return finding("hidden-sectors-wrong", _PHASE, Severity.FATAL, says, where, _repairs(volume.boot))


def _broken(disk: Disk, volume: Volume) -> Finding | None:
    boot = volume.boot
    wrong = [problem for problem in boot.problems if problem.code not in _HARMLESS]
    if not wrong:
        return None
    first = wrong[0]
    copy = "; its copy is sound" if boot.backup is not None and boot.backup.sound else ""
    if volume.filesystem == "unreadable":
        code, what = "volume-boot-sector-unreadable", "cannot be read"
    elif Window(boot.data).blank:
        code, what = "volume-boot-sector-blank", "is blank"
    elif first.code == "not-a-boot-sector":
        code, what = "volume-boot-sector-unknown", "is not one of a file system that we know"
    else:
        code, what = (
            "volume-boot-sector-damaged",
            f"is damaged ({first.code}: {first.found} instead of {first.expected})",
        )
    says = f"The boot sector of volume {volume.number} {what}{copy}."
    where = Where(offset=first.offset, length=first.length, hex=place(0, boot.data).hex)
    repairs = ("partition-table",) if entry_is_beside(disk, volume) else _repairs(boot)
    return finding(code, _PHASE, Severity.FATAL, says, where, repairs)


def _repairs(boot: BootSector) -> tuple[str, ...]:
    return ("boot-sector",) if boot.backup is not None and boot.backup.sound and not boot.backup.agrees else ()


def _at(boot: BootSector) -> Where:
    return Where(offset=boot.backup.offset if boot.backup else None, length=512)
