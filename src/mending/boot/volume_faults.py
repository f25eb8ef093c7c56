"""Findings about volumes as file systems: copies that disagree, damaged superblocks, lengths, names given twice."""

from collections.abc import Iterable

from mending.boot.rungs import finding
from mending.disk import Contents, Disk, Volume, account, unlisted_starts
from mending.formats import gpt, marks
from mending.model import Finding, Phase, Problem, Severity, VolumeState, Where

_LOST = "first-superblock-lost"
BLINDING = {_LOST, "file-table-damaged", "volume-header-damaged", "other-boot-sector-damaged", "volume-unreadable"}
"""Damage behind which a system may lie that the trace then knows nothing of."""
_SAYS = {
    "fats-differ": "The two FATs of volume {number} differ; {found}.",
    "fat-unreadable": "A FAT of volume {number} cannot be read: {found}",
    "superblock-checksum": "The first superblock of volume {number} has the checksum {found} instead of {expected}.",
    "copy-damaged": "The first copy of the superblock of volume {number} is damaged.",
    "copy-differs": "The first copy of the superblock of volume {number} belongs to another volume.",
    "errors-recorded": "The running system recorded errors in the file system of volume {number}.",
    "table-damaged": "The head of the file table of volume {number} is damaged: {found}.",
    "mirror-damaged": "The mirror of the file table of volume {number} is damaged: {found}.",
    "records-differ": "The file table of volume {number} and its mirror differ: {found}.",
    "checksum": "The header of volume {number} has the checksum {found} instead of {expected}.",
}
_IDS = {
    "copy-damaged": "superblock-copy-damaged",
    "copy-differs": "superblock-copy-differs",
    "table-damaged": "file-table-damaged",
    "mirror-damaged": "file-table-mirror-damaged",
    "records-differ": "file-table-mirror-differs",
    "checksum": "volume-header-damaged",
}
_PHASES = {"system-partition": Phase.BOOT_RECORD, "system": Phase.KERNEL, "unknown": Phase.KERNEL}
_NEAR = 1 << 20
"""Bytes; farther off it would be another volume."""
_SLACK = 0.5
"""A volume shorter than this part of its entry was probably meant for another one."""
_UNIQUE = {"ext", "xfs", "swap", "luks"}
"""Kinds whose identifier a Linux system mounts by. Members of one Btrfs share theirs on purpose."""


def volume_findings(disk: Disk, contents: Iterable[Contents]) -> list[Finding]:
    """Everything that is wrong with volumes behind their first sectors."""
    listed = list(contents)
    found = [one for each in listed for one in _of(disk, each)]
    return [*found, *_same_identifiers(listed)]


def unlisted_findings(disk: Disk) -> list[Finding]:
    """Volumes that begin where no entry is. Somebody may have wanted that, so it is a note."""
    return [
        finding(
            "volume-unlisted",
            Phase.FIRMWARE,
            Severity.NOTE,
            f"A volume with {volume.filesystem} begins at sector {volume.start}, and no entry of the table lists it.",
            Where(offset=volume.offset, length=512),
        )
        for volume in (unlisted_starts(disk) if disk.volumes else ())
    ]


def entry_is_beside(disk: Disk, volume: Volume) -> bool:
    """Whether nothing begins where an entry starts, but something that no entry lists does close by."""
    hollow = volume.filesystem in {"unknown", "blank"}
    return hollow and any(abs(one.offset - volume.offset) < _NEAR for one in unlisted_starts(disk))


def fats_can_be_mended(disk: Disk, volume: Volume) -> bool:
    """Whether the FATs of a volume differ and one of them is known to be sound."""
    return any(_can_be_mirrored(problem) for problem in account(disk.source, volume).problems)


def _can_be_mirrored(problem: Problem) -> bool:
    return problem.code == "fats-differ" and "cannot be told" not in problem.found


def _of(disk: Disk, inside: Contents) -> list[Finding]:
    found = [_fault(inside, problem) for problem in inside.facts.problems]
    found += _lost_superblock(inside.volume) if inside.volume.boot.unread else []
    found += _length(disk, inside)
    return found + _notes(inside)


def _fault(inside: Contents, problem: Problem) -> Finding:
    number = inside.volume.number
    says = _SAYS[problem.code].format(number=number, found=problem.found, expected=problem.expected)
    phase = _PHASES.get(inside.role, Phase.SESSION)
    where = Where(offset=problem.offset, length=problem.length)
    repairs: tuple[str, ...] = ()
    if _can_be_mirrored(problem):
        repairs = ("fat-mirror",)
    if problem.code == "superblock-checksum":
        repairs = ("superblock",)
    return finding(_IDS.get(problem.code, problem.code), phase, Severity.WARNING, says, where, repairs)


def _lost_superblock(volume: Volume) -> list[Finding]:
    says = f"{volume.boot.unread.removesuffix('.')}; volume {volume.number} is an ext volume by its copy."
    where = Where(offset=volume.offset + 1024, length=1024)
    return [finding(_LOST, Phase.KERNEL, Severity.WARNING, says, where, ("superblock",))]


def _length(disk: Disk, inside: Contents) -> list[Finding]:
    """Against the entry of the table; kinds with a boot sector are compared where that is checked."""
    volume, believed = inside.volume, inside.facts.bytes
    if volume.start == 0 or not believed:
        return []
    entry = Where(offset=volume.entry_offset, length=gpt.ENTRY_SIZE if disk.gpt else 16)
    phase = _PHASES.get(inside.role, Phase.SESSION)
    if believed > volume.bytes and not volume.boot.sectors:
        says = f"Volume {volume.number} believes to have {believed} bytes; its entry in the table has {volume.bytes}."
        return [finding("volume-larger-than-entry", phase, Severity.WARNING, says, entry)]
    if believed < _SLACK * volume.bytes:
        says = f"Volume {volume.number} fills {believed} bytes of an entry of {volume.bytes}."
        return [finding("volume-much-smaller-than-entry", phase, Severity.NOTE, says, entry)]
    return []


def _notes(inside: Contents) -> list[Finding]:
    volume = inside.volume
    where = Where(offset=volume.offset, length=min(volume.bytes, 512))
    found = []
    if inside.facts.state is VolumeState.HIBERNATED:
        says = f"Volume {volume.number} belongs to a system that sleeps; nothing is written into it."
        found.append(finding("volume-hibernated", Phase.KERNEL, Severity.NOTE, says, where))
    open_questions = (*inside.facts.unchecked, *((inside.unread,) if inside.unread else ()))
    if not volume.boot.readable:
        return found  # what is wrong with its start is said elsewhere
    for says in dict.fromkeys(open_questions):
        shown = f"Volume {volume.number} was not checked further: {says}"
        found.append(finding("volume-not-checked", Phase.KERNEL, Severity.NOTE, shown, where))
    return found


def _same_identifiers(listed: list[Contents]) -> list[Finding]:
    """One name for two volumes: which of them a system mounts by it is chance."""
    found = []
    seen: dict[tuple[str, str], Volume] = {}
    for one in listed:
        volume, name = one.volume, one.facts.identifier
        if volume.filesystem not in _UNIQUE or not name:
            continue
        first = seen.setdefault((volume.filesystem, name), volume)
        if first is not volume:
            says = f"Volumes {first.number} and {volume.number} have the same identifier {name}."
            where = Where(offset=volume.offset, length=min(volume.bytes, marks.READ_BYTES))
            found.append(finding("identifiers-alike", Phase.KERNEL, Severity.WARNING, says, where))
    return found
