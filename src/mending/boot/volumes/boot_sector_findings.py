"""Findings about the first sector of a volume: what is odd about one that works, and damage of one
beside the chain.
"""

from collections.abc import Collection

from mending.boot.chain import finding, place
from mending.disk.volume import BootSector, Volume
from mending.model import FilesystemKind, Finding, FindingId, Phase, RepairId, Severity, Where

_PHASE = Phase.BOOT_RECORD
HARMLESS = frozenset({"media-byte", "fat-too-short"})
"""Problems that boot code gets past; all others are in numbers it calculates with."""


def doubts(volume: Volume, harmless: Collection[str] = HARMLESS) -> list[Finding]:
    """What is odd about a boot sector that works all the same. Args: harmless: codes of problems
    that are got past.
    """
    boot, found = volume.boot, []

    def odd(code: FindingId, says: str, where: Where, repairs: tuple[RepairId, ...] = ()) -> None:
        found.append(finding(code, Severity.WARNING, says, where, repairs, phase=_PHASE))

    if boot.backup is not None and not boot.backup.sound:
        odd(
            FindingId.BACKUP_BOOT_SECTOR_DAMAGED,
            f"The copy of the boot sector of volume {volume.number} is damaged.",
            _at(boot),
        )
    elif boot.sound and boot.backup is not None and not boot.backup.agrees:
        says = f"The boot sector of volume {volume.number} and its copy differ; both are sound."
        odd(FindingId.BACKUP_BOOT_SECTOR_DIFFERS, says, _at(boot))
    if is_misplaced(volume):
        says = (
            f"Volume {volume.number} believes to lie at sector {boot.hidden_sectors}; the table"
            f" says {volume.start}."
        )
        odd(FindingId.HIDDEN_SECTORS_DIFFER, says, Where(offset=boot.offset + 28, length=4))
    if boot.sectors * boot.bytes_per_sector > volume.bytes:
        says = f"Volume {volume.number} believes to be longer than its entry in the table."
        odd(FindingId.VOLUME_LARGER_THAN_ENTRY, says, Where(offset=volume.entry_offset, length=16))
    for problem in boot.problems:
        if problem.code in harmless:
            what = f"{problem.code}, found {problem.found}, expected {problem.expected}"
            says = f"Boot sector of volume {volume.number}: {what}."
            odd(
                FindingId.BOOT_SECTOR_ODD,
                says,
                Where(offset=problem.offset, length=problem.length),
                boot_sector_repairs(boot),
            )
    return found


def damage_aside(volume: Volume) -> list[Finding]:
    """Damage of the first sector of a volume that nothing starts from; a system on it, or its data,
    are out of reach.

    An entry behind which nothing is known may be meant for something else, and is no damage.
    """
    if (
        volume.filesystem in {FilesystemKind.UNKNOWN, FilesystemKind.BLANK}
        or not volume.boot.problems
    ):
        return []
    first = volume.boot.problems[0]
    where = Where(offset=first.offset, length=first.length, hex=place(0, volume.boot.data).hex)
    if volume.filesystem == FilesystemKind.UNREADABLE:
        says = f"The first sector of volume {volume.number} cannot be read."
        return [finding(FindingId.VOLUME_UNREADABLE, Severity.WARNING, says, where)]
    copy = "; its copy is sound" if boot_sector_repairs(volume.boot) else ""
    says = (
        f"The boot sector of volume {volume.number} ({volume.filesystem}) is damaged:"
        f" {first.found}{copy}."
    )
    return [
        finding(
            FindingId.OTHER_BOOT_SECTOR_DAMAGED,
            Severity.WARNING,
            says,
            where,
            boot_sector_repairs(volume.boot),
        )
    ]


def is_misplaced(volume: Volume) -> bool:
    """Whether the active volume believes to lie elsewhere than its entry says."""
    boot = volume.boot
    return volume.active and boot.bytes_per_sector > 0 and boot.hidden_sectors != volume.start


def boot_sector_repairs(boot: BootSector) -> tuple[RepairId, ...]:
    """What would mend a boot sector: its backup, where that is sound and differs."""
    return (
        (RepairId.BOOT_SECTOR,)
        if boot.backup is not None and boot.backup.sound and not boot.backup.agrees
        else ()
    )


def _at(boot: BootSector) -> Where:
    return Where(offset=boot.backup.offset if boot.backup else None, length=512)
