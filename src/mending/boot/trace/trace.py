"""A trace: the walk along the chain of a disk or mounted tree, and all that is found on the way."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from mending.boot.bios import BiosChain, CodeKind, recognise_code
from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    DiskEnvironment,
    Link,
    SystemResult,
    TargetResult,
    Trace,
    TraceCheck,
    TreeEnvironment,
    VolumeResult,
    finding,
    run_chain,
)
from mending.boot.trace.verdict import judge_chain
from mending.boot.volumes import (
    array_findings,
    damage_aside,
    doubts,
    unlisted_findings,
    volume_findings,
)
from mending.disk.layout import Disk, Scheme, survey
from mending.disk.scan import disk_map
from mending.disk.system import Contents, InstalledSystem
from mending.formats.partition import gpt, mbr
from mending.model import (
    Finding,
    FindingId,
    Phase,
    PhaseState,
    Severity,
    UsageError,
    Verdict,
    Where,
)
from mending.source import Source, Target, as_disk, as_tree

if TYPE_CHECKING:
    from mending.boot.uefi import BootOptions
    from mending.disk.locked import KeyRing

_TABLE_FINDINGS = {
    "flag-odd": FindingId.TABLE_FLAG_ODD,
    "entry-past-end": FindingId.TABLE_ENTRY_PAST_END,
    "entry-empty": FindingId.TABLE_ENTRY_EMPTY,
    "entry-at-zero": FindingId.TABLE_ENTRY_AT_ZERO,
    "entries-overlap": FindingId.TABLE_ENTRIES_OVERLAP,
    "logical-loop": FindingId.TABLE_LOGICAL_LOOP,
    "logical-too-many": FindingId.TABLE_LOGICAL_TOO_MANY,
    "logical-outside": FindingId.TABLE_LOGICAL_OUTSIDE,
    "logical-unreadable": FindingId.TABLE_LOGICAL_UNREADABLE,
    "logical-missing": FindingId.TABLE_LOGICAL_MISSING,
    "logical-past-end": FindingId.TABLE_LOGICAL_PAST_END,
    "logical-overlap": FindingId.TABLE_LOGICAL_OVERLAP,
}
"""What problems of an MBR and of its EBR chain are called."""


def open_environment(
    target: Target, keys: "KeyRing | None" = None, others: Sequence[Source] = ()
) -> BootEnvironment:
    """What checks and repairs look at on a target; a disk is surveyed.

    Args:
        keys: what opens locked volumes.
        others: further disks of the same PC.

    Raises:
        InputError: this is no disk, or holds no installed system, or it went away; the key opens
            nothing.
        UsageError: there is nothing to unlock, or an extra is missing.
    """
    tree = as_tree(target)
    if tree is None:
        return DiskEnvironment(survey(as_disk(target)), keys, others)
    if keys is not None:
        raise UsageError("A mounted tree is unlocked already.", "Leave the key out.")
    if others:
        raise UsageError("A mounted tree has no other disks.", "Name the disks themselves.")
    return TreeEnvironment(tree)


def trace_target(
    target: Target,
    firmware: str | None = None,
    options: "BootOptions | None" = None,
    keys: "KeyRing | None" = None,
) -> Trace:
    """Which phase of starting fails on a disk or in a mounted tree, check by check. Reads only.

    Args:
        firmware: `bios` or `uefi` where it is known; else the disk decides.
        options: what UEFI firmware remembers, where that is known.
        keys: what opens locked volumes.

    Raises:
        InputError: as `open_environment`.
    """
    return trace_environment(target, open_environment(target, keys), firmware, options)


def trace_environment(
    target: Target,
    environment: BootEnvironment,
    firmware: str | None = None,
    options: "BootOptions | None" = None,
    reached: Callable[[Phase], None] | None = None,
) -> Trace:
    """The same for a target that was opened already.

    Args:
        reached: called with the phase of each check that is done.
    """
    if isinstance(environment, DiskEnvironment):
        return _trace_disk(target, environment, firmware, options, reached)
    assert isinstance(environment, TreeEnvironment)
    from mending.boot.trace.tree_chain import TreeChain  # noqa: PLC0415 - lazy: see below

    checks = run_chain(TreeChain(environment).start, reached)
    kind = "uefi" if environment.esp is not None else "unknown"
    return _traced(target, environment, checks, [], firmware=kind, scheme=Scheme.NONE)


def _trace_disk(
    target: Target,
    environment: DiskEnvironment,
    firmware: str | None,
    options: "BootOptions | None",
    reached: Callable[[Phase], None] | None,
) -> Trace:
    disk = environment.disk
    kind = settle_firmware(disk, firmware or ("uefi" if options is not None else None))
    first: Link = BiosChain(environment).start
    if kind == "uefi":
        # lazy: half of what a short trace would load belongs to the other kind of firmware
        from mending.boot.uefi import UefiChain  # noqa: PLC0415

        first = UefiChain(environment, options).start
    checks = run_chain(first, reached)
    aside = [
        *_table_findings(disk),
        *_other_volumes(disk, checks),
        *volume_findings(disk, _contents(environment)),
        *array_findings(environment.arrays),
        *unlisted_findings(disk),
    ]
    known = bool(disk.volumes or disk.gpt or firmware)
    shown = kind if known else "unknown"
    return _traced(target, environment, checks, aside, firmware=shown, scheme=disk.scheme)


def _traced(
    target: Target,
    environment: BootEnvironment,
    checks: list[CheckResult],
    aside: list[Finding],
    *,
    firmware: str,
    scheme: Scheme,
) -> Trace:
    """The document of a trace."""
    found = [fault for check in checks for fault in check.findings]
    findings = tuple(sorted([*found, *aside], key=lambda fault: fault.phase.rank))
    contents = _contents(environment)
    systems = [system for inside in contents for system in inside.systems]
    judgement = judge_chain(checks, findings, may_be_blind=not systems)
    disk = environment.disk
    return Trace(
        target=_target(target, disk),
        firmware=firmware,
        scheme=scheme,
        verdict=judgement.verdict,
        failing_phase=judgement.failing_phase,
        phases=judgement.phases,
        checks=tuple(_trace_check(check) for check in checks),
        findings=findings,
        volumes=_volumes(environment, contents, checks),
        systems=tuple(_system(system, judgement.verdict) for system in systems),
        map=disk_map(disk) if disk is not None else None,
        unread=judgement.unread,
    )


def _contents(environment: BootEnvironment) -> list[Contents]:
    return [environment.contents(volume) for volume in environment.volumes if not volume.extended]


def _trace_check(check: CheckResult) -> TraceCheck:
    return TraceCheck(
        phase=check.phase,
        state=check.state,
        says=check.says,
        where=check.where,
        ran_to=check.ran_to,
    )


def _target(target: Target, disk: Disk | None) -> TargetResult:
    """What was looked at, and what it has cost so far."""
    return TargetResult(
        path=target.path,
        kind=target.kind,
        bytes=target.size,
        sector=disk.source.bytes_per_sector if disk is not None else 0,
        bytes_read=target.bytes_read,
    )


def settle_firmware(disk: Disk, given: str | None) -> str:
    """`bios` or `uefi`: what the person says, else what the disk is made for."""
    if given in {"bios", "uefi"}:
        return str(given)
    if disk.mbr is None:
        return "bios"
    has_esp = any(volume.efi for volume in disk.volumes)
    kind = recognise_code(disk.source.read(0, mbr.SIZE))
    if disk.scheme is Scheme.GPT:
        has_core = any(volume.type == gpt.BIOS_BOOT for volume in disk.volumes)
        by_bios = (kind is CodeKind.GRUB or has_core) and not has_esp
        return "bios" if by_bios else "uefi"
    return "uefi" if has_esp and kind is CodeKind.BLANK else "bios"


def _table_findings(disk: Disk) -> list[Finding]:
    """Damage of the table that the chain itself may not notice."""
    if disk.mbr is None or disk.scheme is not Scheme.MBR:
        return []
    found = []
    for problem in (*disk.mbr.problems, *disk.ebr_problems):
        kind = _TABLE_FINDINGS.get(problem.code)
        if kind is None:
            continue  # the signature, which is a check of its own
        says = f"The partition table: {problem.found}; expected {problem.expected}."
        where = Where(offset=problem.offset, length=problem.length)
        found.append(finding(kind, Severity.WARNING, says, where))
    return found


def _other_volumes(disk: Disk, checks: list[CheckResult]) -> list[Finding]:
    """Doubts about volumes that are not on the chain, and damage of their first sectors."""
    on_chain = {check.where.offset for check in checks}
    on_chain |= {fault.where.offset for check in checks for fault in check.findings}
    found: list[Finding] = []
    for volume in disk.volumes:
        if volume.offset not in on_chain and not volume.extended:
            found += doubts(volume) if volume.boot.sound else damage_aside(volume)
    return found


def _volumes(
    environment: BootEnvironment, contents: list[Contents], checks: list[CheckResult]
) -> tuple[VolumeResult, ...]:
    inside = {each.volume.number: each for each in contents}
    # a volume that fills the disk is looked at twice; the last check of it counts
    last = {check.where.offset: check.state for check in checks}
    started = {offset for offset, state in last.items() if state is PhaseState.PASSED}
    return tuple(
        VolumeResult.of(
            volume,
            inside.get(volume.number),
            runs_code=volume.active and volume.offset in started,
        )
        for volume in environment.volumes
    )


def _system(system: InstalledSystem, verdict: Verdict) -> SystemResult:
    starts = None if verdict is Verdict.UNSURE else verdict is Verdict.NO_FAULT_FOUND
    return SystemResult(
        family=system.family, volume=system.volume, title=system.title, starts=starts
    )
