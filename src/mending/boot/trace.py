"""The walk along the chain, and the verdict drawn from it."""

from mending.boot.bios import BiosChain
from mending.boot.boot_options import BootOptions
from mending.boot.codes import CodeKind, recognise_code
from mending.boot.folder_chain import FolderChain
from mending.boot.folder_grounds import FolderGrounds
from mending.boot.grounds import Grounds
from mending.boot.grub.core import BIOS_BOOT
from mending.boot.results import PhaseResult, RungResult, SystemResult, TargetResult, Trace, VolumeResult
from mending.boot.rungs import Rung, climb, finding
from mending.boot.uefi import UefiChain
from mending.boot.volume_faults import BLINDING, unlisted_findings, volume_findings
from mending.boot.volume_sector import damage_aside, doubts
from mending.disk import Contents, Disk, InstalledSystem, Scheme, disk_map, survey
from mending.formats import mbr
from mending.model import PHASES, Finding, Phase, PhaseState, Severity, Verdict, Where
from mending.source import FolderSource, PatchedFolder, Source, Tree

_WORST_FIRST = (PhaseState.FAILED, PhaseState.DOUBTFUL, PhaseState.NOT_CHECKED)


def trace_disk(source: Source, firmware: str | None = None, options: BootOptions | None = None) -> Trace:
    """Which phase of starting fails on this disk, rung by rung. Reads only.

    Args:
        firmware: `bios` or `uefi` where it is known; else the disk decides.
        options: what UEFI firmware remembers, where that is known.

    Raises:
        InputError: this is no disk, or it went away.
    """
    disk = survey(source)
    kind = settle_firmware(disk, firmware or ("uefi" if options is not None else None))
    grounds = Grounds(disk)
    rungs = climb(UefiChain(grounds, options).start if kind == "uefi" else BiosChain(grounds).start)
    contents = tuple(grounds.contents(volume) for volume in disk.volumes if not volume.extended)
    aside = [
        *_table_findings(disk),
        *_other_volumes(disk, rungs),
        *volume_findings(disk, contents),
        *unlisted_findings(disk),
    ]
    findings = tuple(_in_order([*(one for rung in rungs for one in rung.findings), *aside]))
    phases = _phases(rungs, findings)
    failing = next((phase.id for phase in phases if phase.state is PhaseState.FAILED), None)
    systems = tuple(one for inside in contents for one in inside.systems)
    verdict = _verdict(failing, rungs, blind=not systems and any(one.id in BLINDING for one in aside))
    return Trace(
        target=_target(source),
        firmware=kind if disk.volumes or disk.gpt or firmware else "unknown",
        scheme=disk.scheme,
        verdict=verdict,
        failing_phase=failing,
        phases=phases,
        rungs=_rungs(rungs),
        findings=findings,
        volumes=_volumes(disk, contents, rungs),
        map=disk_map(disk),
        systems=tuple(_system(one, verdict) for one in systems),
    )


def trace_tree(tree: Tree) -> Trace:
    """The same for a mounted tree: the files of its boot manager, its kernel, its root. Reads only.

    Raises:
        InputError: there is no installed system in it.
    """
    grounds = FolderGrounds(tree)
    rungs = climb(FolderChain(grounds).start)
    findings = tuple(_in_order([one for rung in rungs for one in rung.findings]))
    phases = _phases(rungs, findings)
    failing = next((phase.id for phase in phases if phase.state is PhaseState.FAILED), None)
    verdict = _verdict(failing, rungs, blind=False)
    contents = [grounds.contents(volume) for volume in grounds.volumes]
    return Trace(
        target=TargetResult(path=tree.path, kind=tree.kind, bytes=0, sector=0, bytes_read=tree.bytes_read),
        firmware="uefi" if grounds.efi is not None else "unknown",
        scheme=Scheme.NONE,
        verdict=verdict,
        failing_phase=failing,
        phases=phases,
        rungs=_rungs(rungs),
        findings=findings,
        volumes=tuple(VolumeResult.of(one.volume, one, runs_code=False) for one in contents),
        systems=tuple(_system(one, verdict) for inside in contents for one in inside.systems),
    )


def trace_target(target: Source | Tree, firmware: str | None = None, options: BootOptions | None = None) -> Trace:
    """`trace_disk` or `trace_tree`, by what the target is."""
    if isinstance(target, FolderSource | PatchedFolder):
        return trace_tree(target)
    return trace_disk(target, firmware, options)


def _rungs(rungs: list[Rung]) -> tuple[RungResult, ...]:
    return tuple(RungResult(phase=one.phase, state=one.state, says=one.says, where=one.where) for one in rungs)


def _target(source: Source) -> TargetResult:
    """What was looked at, and what it has cost so far."""
    return TargetResult(
        path=source.path, kind=source.kind, bytes=source.size, sector=source.bytes_per_sector,
        bytes_read=source.bytes_read,
    )  # fmt: skip


def settle_firmware(disk: Disk, given: str | None) -> str:
    """`bios` or `uefi`: what the person says, else what the disk is made for."""
    if given in {"bios", "uefi"}:
        return str(given)
    if disk.boot_record is None:
        return "bios"
    efi = any(volume.efi for volume in disk.volumes)
    kind = recognise_code(disk.source.read(0, mbr.SIZE))
    if disk.scheme is Scheme.GPT:
        core = any(volume.type == BIOS_BOOT for volume in disk.volumes)
        return "bios" if (kind is CodeKind.GRUB or core) and not efi else "uefi"
    return "uefi" if efi and kind is CodeKind.BLANK else "bios"


def _table_findings(disk: Disk) -> list[Finding]:
    """Damage of the table that the chain itself may not notice."""
    if disk.boot_record is None or disk.scheme is Scheme.GPT or any(volume.start == 0 for volume in disk.volumes):
        return []
    return [
        finding(
            f"table-{problem.code}",
            Phase.FIRMWARE,
            Severity.WARNING,
            f"The partition table: {problem.found}; expected {problem.expected}.",
            Where(offset=problem.offset, length=problem.length),
        )
        for problem in (*disk.boot_record.problems, *disk.logical_problems)
        if problem.code != "signature-missing"
    ]


def _other_volumes(disk: Disk, rungs: list[Rung]) -> list[Finding]:
    """Doubts about volumes that are not on the chain, and damage of their first sectors."""
    climbed = {rung.where.offset for rung in rungs} | {one.where.offset for rung in rungs for one in rung.findings}
    aside = [volume for volume in disk.volumes if volume.offset not in climbed and not volume.extended]
    return [one for volume in aside for one in (doubts(volume) if volume.boot.sound else damage_aside(volume))]


def _in_order(findings: list[Finding]) -> list[Finding]:
    return sorted(findings, key=lambda one: one.phase.rank)


def _phases(rungs: list[Rung], findings: tuple[Finding, ...]) -> tuple[PhaseResult, ...]:
    results, stopped = [], False
    for phase in PHASES:
        states = {rung.state for rung in rungs if rung.phase is phase}
        worst = next((state for state in _WORST_FIRST if state in states), None)
        state = worst or (PhaseState.PASSED if states else PhaseState.NOT_CHECKED)
        if stopped and state is not PhaseState.FAILED:
            state = PhaseState.NOT_REACHED
        stopped = stopped or state is PhaseState.FAILED
        results.append(
            PhaseResult(id=phase, state=state, findings=tuple(one.id for one in findings if one.phase is phase))
        )
    return tuple(results)


def _verdict(failing: Phase | None, rungs: list[Rung], *, blind: bool) -> Verdict:
    """Args: blind: whether damage may hide the very system that is to start."""
    if failing is not None:
        return Verdict.FAILS
    # The last rung of a chain that was read to its end says only that later phases are not read; any other
    # rung that is doubtful or not checked decides something, and then we are not sure.
    decided = all(rung.state is PhaseState.PASSED or (rung.then is None and not rung.findings) for rung in rungs)
    return Verdict.NO_FAULT_FOUND if decided and not blind else Verdict.UNSURE


def _volumes(disk: Disk, contents: tuple[Contents, ...], rungs: list[Rung]) -> tuple[VolumeResult, ...]:
    inside = {one.volume.number: one for one in contents}
    last = {rung.where.offset: rung.state for rung in rungs}  # a volume that fills the disk is looked at twice
    started = {offset for offset, state in last.items() if state is PhaseState.PASSED}
    return tuple(
        VolumeResult.of(volume, inside.get(volume.number), runs_code=volume.active and volume.offset in started)
        for volume in disk.volumes
    )


def _system(system: InstalledSystem, verdict: Verdict) -> SystemResult:
    starts = None if verdict is Verdict.UNSURE else verdict is Verdict.NO_FAULT_FOUND
    return SystemResult(family=system.family, volume=system.volume, title=system.title, starts=starts)
