"""Findings about volumes as file systems: copies that disagree, damaged superblocks, lengths, names
given twice.
"""

from collections.abc import Collection, Iterable

from mending.boot.chain import finding, place
from mending.disk.layout import Array, Disk, find_unlisted_volumes
from mending.disk.system import Contents
from mending.disk.volume import SOUND_FAT, BootSector, Volume
from mending.formats import gpt, volume_heads
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Phase,
    Problem,
    RepairId,
    Severity,
    VolumeState,
    Where,
)

BLINDING = frozenset(
    {
        FindingId.FIRST_SUPERBLOCK_LOST,
        FindingId.FILE_TABLE_DAMAGED,
        FindingId.VOLUME_HEADER_DAMAGED,
        FindingId.OTHER_BOOT_SECTOR_DAMAGED,
        FindingId.VOLUME_UNREADABLE,
        FindingId.FOLDER_DAMAGED,
    }
)
"""Damage behind which a system may lie that the trace then knows nothing of."""
_FAULTS = {
    "fats-differ": (FindingId.FATS_DIFFER, "The two FATs of volume {number} differ; {found}."),
    "fat-unreadable": (
        FindingId.FAT_UNREADABLE,
        "A FAT of volume {number} cannot be read: {found}",
    ),
    "superblock-checksum": (
        FindingId.SUPERBLOCK_CHECKSUM,
        "The first superblock of volume {number} has the checksum {found} instead of {expected}.",
    ),
    "copy-damaged": (
        FindingId.SUPERBLOCK_COPY_DAMAGED,
        "The first copy of the superblock of volume {number} is damaged.",
    ),
    "copy-differs": (
        FindingId.SUPERBLOCK_COPY_DIFFERS,
        "The first copy of the superblock of volume {number} belongs to another volume.",
    ),
    "errors-recorded": (
        FindingId.ERRORS_RECORDED,
        "The running system recorded errors in the file system of volume {number}.",
    ),
    "table-damaged": (
        FindingId.FILE_TABLE_DAMAGED,
        "The head of the file table of volume {number} is damaged: {found}.",
    ),
    "mirror-damaged": (
        FindingId.FILE_TABLE_MIRROR_DAMAGED,
        "The mirror of the file table of volume {number} is damaged: {found}.",
    ),
    "records-differ": (
        FindingId.FILE_TABLE_MIRROR_DIFFERS,
        "The file table of volume {number} and its mirror differ: {found}.",
    ),
    "checksum": (
        FindingId.VOLUME_HEADER_DAMAGED,
        "The header of volume {number} has the checksum {found} instead of {expected}.",
    ),
}
"""What each problem of a volume is called, and in which words."""
_FILE_TABLE = {
    FindingId.FILE_TABLE_DAMAGED,
    FindingId.FILE_TABLE_MIRROR_DAMAGED,
    FindingId.FILE_TABLE_MIRROR_DIFFERS,
}
_PHASES = {"system-partition": Phase.BOOT_RECORD, "system": Phase.KERNEL, "unknown": Phase.KERNEL}
_SUPERBLOCK_BYTES = 512
_NEAR = 1 << 20
"""Bytes; farther off it would be another volume."""
_SLACK = 0.5
"""A volume shorter than this part of its entry was probably meant for another one."""


def volume_findings(disk: Disk, contents: Iterable[Contents]) -> list[Finding]:
    """Everything that is wrong with volumes behind their first sectors."""
    listed = list(contents)
    found = [finding for each in listed for finding in _of(disk, each)]
    return [*found, *_same_identifiers(listed)]


def array_findings(arrays: Iterable[Array]) -> list[Finding]:
    """Members that are not at hand, or lag behind. That a mirror's other member is on another drive
    is as it should be.
    """
    found = []
    for array in arrays:
        volume = next((volume for volume, _ in array.members.values()), None)
        where = Where(offset=volume.offset, length=512) if volume is not None else Where()
        for each in array.stale:
            says = (
                f"Volume {each.number} lags behind the other members of array {array.name}; it is"
                " not started with them."
            )
            stale = Where(offset=each.offset, length=512)
            found.append(finding(FindingId.ARRAY_MEMBER_STALE, Severity.WARNING, says, stale))
        if array.unread:
            says = f"Array {array.name} ({array.kind}) is not read: {array.unread}."
            found.append(finding(FindingId.ARRAY_NOT_READ, Severity.WARNING, says, where))
        elif array.missing:
            here = len(array.members)
            says = f"{here} of {array.count} members of array {array.name} ({array.kind}) are here."
            found.append(finding(FindingId.ARRAY_MEMBER_ELSEWHERE, Severity.NOTE, says, where))
    return found


def unlisted_findings(disk: Disk) -> list[Finding]:
    """Volumes that begin where no entry is. Somebody may have wanted that, so it is a note."""
    return [
        finding(
            FindingId.VOLUME_UNLISTED,
            Severity.NOTE,
            f"A volume with {volume.filesystem} begins at sector {volume.start}, and no entry of"
            " the table lists it.",
            Where(offset=volume.offset, length=512),
        )
        for volume in (find_unlisted_volumes(disk) if disk.volumes else ())
    ]


def entry_is_beside(disk: Disk, volume: Volume) -> bool:
    """Whether nothing begins where an entry starts, but something that no entry lists does close
    by.
    """
    hollow = volume.filesystem in {FilesystemKind.UNKNOWN, FilesystemKind.BLANK}
    return hollow and any(
        abs(unlisted.offset - volume.offset) < _NEAR for unlisted in find_unlisted_volumes(disk)
    )


def _of(disk: Disk, inside: Contents) -> list[Finding]:
    found = [_fault(inside, problem) for problem in inside.info.problems]
    found += _lost_superblock(inside.volume) if inside.volume.boot.unread else []
    found += _length(disk, inside)
    return found + _damaged_folders(inside) + _notes(inside)


def _damaged_folders(inside: Contents) -> list[Finding]:
    """A system needs what its folders hold, and what is in a damaged one nobody can tell; where
    there is none, nothing of the start hangs on them.
    """
    severity = Severity.NOTE if inside.role == "data" else Severity.WARNING
    where = Where(offset=inside.volume.offset, length=512)
    phase = _PHASES.get(inside.role, Phase.SESSION)
    return [
        finding(
            FindingId.FOLDER_DAMAGED,
            severity,
            f"Volume {inside.volume.number}: {says[0].lower()}{says[1:]}",
            where,
            phase=phase,
        )
        for says in inside.damaged
    ]


def _fault(inside: Contents, problem: Problem) -> Finding:
    kind, words = _FAULTS[problem.code]
    number = inside.volume.number
    says = words.format(number=number, found=problem.found, expected=problem.expected)
    where = Where(offset=problem.offset, length=problem.length)
    repairs: tuple[RepairId, ...] = ()
    if problem.values.get(SOUND_FAT):
        repairs = (RepairId.FAT_MIRROR,)
    if kind is FindingId.SUPERBLOCK_CHECKSUM:
        repairs = (RepairId.SUPERBLOCK,)
    if kind in _FILE_TABLE:
        repairs = (RepairId.NTFS_MIRROR,)
    phase = _PHASES.get(inside.role, Phase.SESSION)
    return finding(kind, Severity.WARNING, says, where, repairs, phase=phase)


def _lost_superblock(volume: Volume) -> list[Finding]:
    says = (
        f"{volume.boot.unread.removesuffix('.')}; volume {volume.number} holds"
        f" {volume.filesystem} by its copy."
    )
    where = Where(offset=volume.offset + volume.kind.first_structure, length=_SUPERBLOCK_BYTES)
    lost, repairs = FindingId.FIRST_SUPERBLOCK_LOST, (RepairId.SUPERBLOCK,)
    return [finding(lost, Severity.WARNING, says, where, repairs)]


def _length(disk: Disk, inside: Contents) -> list[Finding]:
    """Against the entry of the table; kinds with a boot sector are compared where that is
    checked.
    """
    volume, believed = inside.volume, inside.info.bytes
    if volume.start == 0 or not believed:
        return []
    entry = Where(offset=volume.entry_offset, length=gpt.ENTRY_SIZE if disk.gpt else 16)
    phase = _PHASES.get(inside.role, Phase.SESSION)
    if believed > volume.bytes and not volume.boot.sectors:
        says = (
            f"Volume {volume.number} believes to have {believed} bytes; its entry in the table has"
            f" {volume.bytes}."
        )
        larger = FindingId.VOLUME_LARGER_THAN_ENTRY
        return [finding(larger, Severity.WARNING, says, entry, phase=phase)]
    if believed < _SLACK * volume.bytes:
        says = f"Volume {volume.number} fills {believed} bytes of an entry of {volume.bytes}."
        smaller = FindingId.VOLUME_MUCH_SMALLER_THAN_ENTRY
        return [finding(smaller, Severity.NOTE, says, entry, phase=phase)]
    return []


def _notes(inside: Contents) -> list[Finding]:
    volume = inside.volume
    where = Where(offset=volume.offset, length=min(volume.bytes, 512))
    found = []
    if inside.info.state is VolumeState.HIBERNATED:
        says = (
            f"Volume {volume.number} belongs to a system that sleeps; nothing is written into it."
        )
        found.append(finding(FindingId.VOLUME_HIBERNATED, Severity.NOTE, says, where))
    open_questions = (*inside.info.unchecked, *((inside.unread,) if inside.unread else ()))
    if not volume.boot.readable:
        return found  # what is wrong with its start is said elsewhere
    for says in dict.fromkeys(open_questions):
        shown = f"Volume {volume.number} was not checked further: {says}"
        found.append(finding(FindingId.VOLUME_NOT_CHECKED, Severity.NOTE, shown, where))
    return found


def _same_identifiers(listed: list[Contents]) -> list[Finding]:
    """One name for two volumes: which of them a system mounts by it is chance."""
    found = []
    seen: dict[tuple[str, str], Volume] = {}
    for contents in listed:
        volume, name = contents.volume, contents.info.identifier
        if not volume.kind.mounted_by_identifier or not name:
            continue
        first = seen.setdefault((volume.filesystem, name), volume)
        if first is not volume and not (volume.array and volume.array == first.array):
            says = f"Volumes {first.number} and {volume.number} have the same identifier {name}."
            where = Where(offset=volume.offset, length=min(volume.bytes, volume_heads.READ_BYTES))
            found.append(finding(FindingId.IDENTIFIERS_ALIKE, Severity.WARNING, says, where))
    return found


# Findings about the first sector of a volume: what is odd about one that works, and damage of one
# beside the chain.


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
