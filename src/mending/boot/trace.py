"""A trace: the walk along the chain of a disk or mounted tree, and all that is found on the way."""

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import msgspec

from mending.boot.bios import BiosChain, CodeKind, recognise_code
from mending.boot.chain import (
    NOWHERE,
    BootEnvironment,
    CheckResult,
    DiskEnvironment,
    Link,
    PhaseResult,
    SystemResult,
    TargetResult,
    Trace,
    TraceCheck,
    TreeEnvironment,
    UnreadResult,
    VolumeResult,
    failed,
    finding,
    not_followed,
    passed,
    run_chain,
)
from mending.boot.grub import MODULE_OF, GrubChecks
from mending.boot.linux import RootChecks
from mending.boot.uefi import behind_loader, chained, loaders_on
from mending.boot.volumes import (
    BLINDING,
    array_findings,
    damage_aside,
    doubts,
    unlisted_findings,
    volume_findings,
)
from mending.disk.layout import Disk, Scheme, survey
from mending.disk.scan import disk_map
from mending.disk.system import Contents, InstalledSystem
from mending.disk.volume import Volume
from mending.formats import gpt, mbr
from mending.formats.grub import GrubImage
from mending.model import (
    PHASES,
    PHASES_ON_DISK,
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

# What the results of a chain come to: the state of each phase, the verdict, and what was not read.
#
# Rules:
#
# * The first phase with a failed check is where the start stops; what lies behind it is not
#   reached.
# * Without a failed check, no fault was found only if every phase of which a disk can tell was read
#   to its end. Else the verdict is `unsure`, and the first phase that was not read is named.
# * Damage that may hide the very system that is to start leaves the verdict open, too, and so does
#   a folder of a system that cannot be read whole.


_WORST_FIRST = (PhaseState.FAILED, PhaseState.DOUBTFUL, PhaseState.NOT_CHECKED)


class Judgement(msgspec.Struct, frozen=True, kw_only=True):
    """What a chain comes to. `unread` is None where the start fails, or all was read."""

    verdict: Verdict
    failing_phase: Phase | None
    phases: tuple[PhaseResult, ...]
    unread: UnreadResult | None


def judge_chain(
    results: Sequence[CheckResult], findings: Sequence[Finding], *, may_be_blind: bool
) -> Judgement:
    """Draw the verdict.

    Args:
        findings: all of the trace, in the order of phases.
        may_be_blind: whether no system was found, so that damage may hide the one that is meant.
    """
    phases = tuple(_phases(results, findings))
    failing = next((phase.id for phase in phases if phase.state is PhaseState.FAILED), None)
    if failing is not None:
        return Judgement(verdict=Verdict.FAILS, failing_phase=failing, phases=phases, unread=None)
    unread = _first_unread(results, phases)
    if unread is None:
        unread = _hidden_by_damage(findings, may_be_blind=may_be_blind)
    verdict = Verdict.NO_FAULT_FOUND if unread is None else Verdict.UNSURE
    return Judgement(verdict=verdict, failing_phase=None, phases=phases, unread=unread)


def _phases(results: Sequence[CheckResult], findings: Sequence[Finding]) -> list[PhaseResult]:
    rows: list[PhaseResult] = []
    stopped = False
    for phase in PHASES:
        state = _state_of(phase, [result.state for result in results if result.phase is phase])
        if stopped and state is not PhaseState.FAILED:
            state = PhaseState.NOT_REACHED
        stopped = stopped or state is PhaseState.FAILED
        ids = tuple(finding.id for finding in findings if finding.phase is phase)
        rows.append(PhaseResult(id=phase, state=state, findings=ids))
    return rows


def _state_of(phase: Phase, states: list[PhaseState]) -> PhaseState:
    """The worst state of a phase's checks; of a desktop a disk tells only that it cannot come."""
    if phase not in PHASES_ON_DISK and PhaseState.FAILED not in states:
        return PhaseState.NOT_ON_DISK
    for state in _WORST_FIRST:
        if state in states:
            return state
    return PhaseState.PASSED if states else PhaseState.NOT_CHECKED


def _first_unread(
    results: Sequence[CheckResult], phases: Sequence[PhaseResult]
) -> UnreadResult | None:
    """The first phase that was not read to its end, and the check that says why."""
    for phase in phases:
        if phase.id not in PHASES_ON_DISK or phase.state is PhaseState.PASSED:
            continue
        for result in results:
            if result.phase is phase.id and result.state is not PhaseState.PASSED:
                return UnreadResult(phase=phase.id, says=result.says)
        last = results[-1].says if results else "Nothing was read."
        return UnreadResult(phase=phase.id, says=f"The chain was followed no farther than: {last}")
    return None


def _hidden_by_damage(findings: Sequence[Finding], *, may_be_blind: bool) -> UnreadResult | None:
    for each in findings:
        of_system = each.id == FindingId.FOLDER_DAMAGED and each.severity != Severity.NOTE
        if of_system or (may_be_blind and each.id in BLINDING):
            return UnreadResult(phase=each.phase, says=each.says)
    return None


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


# The chain of a mounted tree: from the boot manager's files on. What lies outside files, the
# firmware's part, the MBR and boot sectors, cannot be seen there.


_MENUS = ("boot/grub", "boot/grub2", "grub", "grub2")
_MODULES = frozenset({"normal", *MODULE_OF.values()})
"""GRUB's image lies outside the tree; it is taken to carry what its menu needs."""
_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED


class TreeChain:
    """The checks of one tree. `start` is the first."""

    def __init__(self, environment: TreeEnvironment) -> None:
        self._environment, self._root = environment, environment.volumes[0]

    def start(self) -> CheckResult:
        """What of starting can a tree not show?"""
        says = "Firmware, tables and boot sectors lie outside the files of a mounted tree."
        return CheckResult(
            phase=Phase.FIRMWARE,
            state=PhaseState.NOT_CHECKED,
            says=says,
            then=self.boot_manager,
        )

    @not_followed(_UNREAD, "The boot manager's files", lambda chain: chain.root_alone)
    def boot_manager(self) -> CheckResult:
        """Which boot manager's files are there?"""
        esp = self._environment.esp
        if esp is not None:
            return self._loader(esp)
        for folder in _MENUS:
            if self._environment.find(self._root, f"{folder}/grub.cfg") is not None:
                return self._grub(folder)
        says = "No boot manager's files are in this folder; what it would load is not known."
        return CheckResult(
            phase=Phase.BOOT_MANAGER,
            state=PhaseState.NOT_CHECKED,
            says=says,
            then=self.root_alone,
        )

    def root_alone(self) -> CheckResult:
        """The root without a command line: what is wrong behind it counts all the same."""
        if self._environment.contents(self._root).role != "system":
            says = "No installed system is in this folder."
            return CheckResult(phase=Phase.KERNEL, state=PhaseState.NOT_CHECKED, says=says)
        return RootChecks(self._environment, "", NOWHERE, has_initramfs=True).root()

    def _loader(self, esp: Volume) -> CheckResult:
        loaders = loaders_on(self._environment.files(esp))
        ordered = sorted(loaders, key=lambda loader: (not loader.sound, not loader.fallback))
        bad = [loader for loader in ordered if not loader.sound]
        if not ordered or not ordered[0].sound:
            return self._no_loader(esp, bad[0].problems[0].found if bad else "")
        first = ordered[0]
        notes = tuple(
            finding(
                FindingId.EFI_LOADER_DAMAGED,
                Severity.WARNING,
                f"The loader file {loader.path} is damaged: {loader.problems[0].found}.",
                Where(path=loader.path),
            )
            for loader in bad
        )
        says = f"{first.path} on the system partition in {esp.label} is sound."
        then = self._or_root_alone(behind_loader(self._environment, esp, first.path))
        return passed(Phase.BOOT_RECORD, says, Where(path=first.path), then, notes)

    def _no_loader(self, esp: Volume, damage: str) -> CheckResult:
        what = f"the loader file is damaged: {damage}" if damage else "no loader file"
        says = f"The system partition in {esp.label} holds no sound loader: {what}."
        kind = FindingId.EFI_LOADER_DAMAGED if damage else FindingId.EFI_LOADER_MISSING
        fault = finding(kind, Severity.FATAL, says, Where(path=esp.label))
        return failed(fault, self.root_alone)

    def _grub(self, folder: str) -> CheckResult:
        image = GrubImage(f"(hd0,1)/{folder}", "", _MODULES, b"")
        behind = chained(self._environment)
        checks = GrubChecks(self._environment, image, "i386-pc", None, behind)
        return self._or_root_alone(checks.files)()

    def _or_root_alone(self, link: Link) -> Link:
        """The same links, and the root where they end before they come to it."""

        def following() -> CheckResult:
            result = link()
            if result.phase.rank >= Phase.KERNEL.rank:
                return result
            then = self._or_root_alone(result.then) if result.then else self.root_alone
            return msgspec.structs.replace(result, then=then)

        return following
