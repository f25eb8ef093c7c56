"""One repair from beginning to end: trace, propose, try it on a write overlay, write, trace again.

What was proposed and shown is what is written: `carry_out` takes the preview as it is, after the
bytes that it would change were compared with those that it was made for.
"""

from collections.abc import Callable, Container, Mapping, Sequence

import msgspec

from mending.boot.chain import (
    BarredRepair,
    BootEnvironment,
    DiskEnvironment,
    OutOfReachError,
    Trace,
)
from mending.boot.trace import open_environment, trace_environment, trace_target
from mending.disk.files import FilesUnavailableError
from mending.disk.layout import identifier_ranges
from mending.disk.scan import DiskMap, lost_between
from mending.formats.hives import DamagedHiveError
from mending.model import (
    PHASES,
    REPAIRS,
    ActsOn,
    Change,
    FileChange,
    Finding,
    FindingId,
    MendingError,
    PhaseState,
    Progress,
    RefusedError,
    RepairFailedError,
    RepairId,
    UsageError,
    hex_preview,
    silent,
)
from mending.repair import healthy, partition, volume
from mending.repair.base import (
    MendSettings,
    Proposal,
    Request,
    WholeDiskError,
    check_common,
    check_mirrors,
)
from mending.repair.boot import boot_code, boot_entries, linux_start
from mending.repair.files import restoring
from mending.repair.journal import Journal
from mending.repair.nt import services, store_entries, system_files, whole_hives
from mending.source import Target
from mending.source.stitched import FIRST_VIEW

# The repairs that this version carries out: for each id of the catalogue, what proposes it.


Propose = Callable[[Request], Proposal]


def _by_family(nt: Propose, other: Propose, kinds: Container[str]) -> Propose:
    """A repair that is made in two ways: for what only the nt family has, and for the rest."""

    def propose_either(request: Request) -> Proposal:
        asking = [str(each.id) for each in request.trace.findings if each.repairs]
        return nt(request) if any(kind in kinds for kind in asking) else other(request)

    return propose_either


def _restore(request: Request) -> Proposal:
    """Files of the one family that is on the disk; of both, of that whose finding asks for it."""
    asking = [str(each.id) for each in request.calling_for(RepairId.FILE_RESTORE)]
    families = {
        system.family
        for volume in request.environment.volumes
        if not volume.extended
        for system in request.environment.contents(volume).systems
    }
    is_nt = "linux" not in families if "nt" in families else False
    if is_nt or any(kind in _OF_NT for kind in asking):
        return system_files.propose_nt_restore(request)
    return restoring.propose_file_restore(request)


_OF_NT = frozenset(
    {
        FindingId.SYSTEM_LOADER_MISSING,
        FindingId.SYSTEM_LOADER_DAMAGED,
        FindingId.BOOT_DRIVER_MISSING,
        FindingId.BOOT_DRIVER_DAMAGED,
        FindingId.BOOT_DRIVER_UNLINKED,
        FindingId.SESSION_PROGRAM_MISSING,
        FindingId.SESSION_PROGRAM_DAMAGED,
        FindingId.SIGN_IN_PROGRAM_MISSING,
        FindingId.SIGN_IN_PROGRAM_DAMAGED,
    }
)
PROPOSERS: Mapping[RepairId, Propose] = {
    RepairId.GPT_COPY: partition.propose_gpt_copy,
    RepairId.PARTITION_TABLE: partition.propose_partition_table,
    RepairId.BOOT_SECTOR: volume.propose_boot_sector,
    RepairId.FAT_MIRROR: volume.propose_fat_mirror,
    RepairId.SUPERBLOCK: volume.propose_superblock,
    RepairId.NTFS_MIRROR: volume.propose_file_table_mirror,
    RepairId.BOOT_FILES: _by_family(
        system_files.propose_nt_manager, boot_entries.propose_boot_files, system_files.KINDS
    ),
    RepairId.HIVE_LOG: whole_hives.propose_hive_log,
    RepairId.HIVE_HEADER: whole_hives.propose_hive_header,
    RepairId.HIVE_SET: whole_hives.propose_hive_set,
    RepairId.CONTROL_SET: services.propose_control_set,
    RepairId.STORE_DEVICE: store_entries.propose_store_device,
    RepairId.FILE_RESTORE: _restore,
    RepairId.BOOT_ENTRIES: _by_family(
        store_entries.propose_store_entries, boot_entries.propose_boot_entries, store_entries.KINDS
    ),
    RepairId.DRIVER_OFF: services.propose_driver_off,
    RepairId.DRIVER_START: services.propose_driver_start,
    RepairId.START_SETTING: services.propose_start_setting,
    RepairId.PENDING_DROP: services.propose_pending_drop,
    RepairId.SIGN_IN_PROGRAM: services.propose_sign_in_program,
    RepairId.DRIVE_LETTER: services.propose_drive_letter,
    RepairId.ACTIVE_FLAG: partition.propose_active_flag,
    RepairId.BOOT_CODE: boot_code.propose_boot_code,
    RepairId.ROOT_NAME: linux_start.propose_root_name,
    RepairId.ENTRY_KERNEL: linux_start.propose_entry_kernel,
    RepairId.MOUNT_OPTIONAL: linux_start.propose_mount_optional,
    RepairId.DEFAULT_TARGET: linux_start.propose_default_target,
    RepairId.UNIT_OFF: linux_start.propose_unit_off,
    RepairId.ACCOUNT_COPY: linux_start.propose_account_copy,
    RepairId.START_WORD: linux_start.propose_start_word,
    RepairId.HEALTHY_PARTS: healthy.propose_healthy_parts,
}


def repair_of(name: str) -> RepairId:
    """The repair of that name.

    Raises:
        UsageError
    """
    try:
        return RepairId(name)
    except ValueError as error:
        raise UsageError(
            f"There is no repair called {name!r}.", f"Repairs: {', '.join(RepairId)}."
        ) from error


def propose(
    repair: RepairId,
    environment: BootEnvironment,
    trace: Trace,
    settings: MendSettings,
    progress: Progress,
) -> Proposal:
    """The changes of one repair.

    Raises:
        RefusedError: a guard says no.
    """
    if environment.disk is None and REPAIRS[repair].acts_on is not ActsOn.DISK_AND_TREE:
        raise RefusedError(
            f"{repair} needs the disk itself and not a mounted tree.",
            "Name the image or the device.",
        )
    locked = environment.disk is not None and not _sees_inside(environment)
    if locked and environment.disk is not None:
        check_common(environment.disk, settings)
    request = Request(environment=environment, trace=trace, settings=settings, progress=progress)
    try:
        proposal = PROPOSERS[repair](request)
    except (OutOfReachError, DamagedHiveError, FilesUnavailableError) as error:
        raise RefusedError(f"{repair} needs files that cannot be read: {error}") from error
    outside = any(_is_outside(change) for change in proposal.changes)
    if environment.disk is not None and not locked and outside:
        check_common(environment.disk, settings)
    if environment.disk is not None:
        check_mirrors(environment.disk, proposal.changes)
    return proposal


def _sees_inside(environment: BootEnvironment) -> bool:
    return isinstance(environment, DiskEnvironment) and environment.has_unlocked


def _is_outside(change: Change) -> bool:
    """Whether a change is of the disk itself and not of what a locked volume holds."""
    return isinstance(change, FileChange) or change.offset < FIRST_VIEW


class WriteResult(msgspec.Struct, frozen=True, kw_only=True):
    """One range that is or would be written; `path` is for repairs on files."""

    offset: int
    length: int
    path: str | None
    says: str
    before_hex: str
    after_hex: str


class MendResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="mend/1"):
    """What a repair did, or would do where `done` is false. `proof` is what was done on this
    target, now, to see that it is right. The maps are None where the table stays as it is;
    `warning` is empty but where something beside the repair went wrong.
    """

    repair: str
    says: str
    proof: tuple[str, ...]
    done: bool
    writes: tuple[WriteResult, ...]
    undo_point: str | None
    before: str
    after: str
    failing_before: str | None
    failing_after: str | None
    map_before: DiskMap | None
    map_after: DiskMap | None
    warning: str = ""


class Examined(msgspec.Struct, frozen=True):
    """A target that was opened and traced, so that neither is done twice."""

    target: Target
    environment: BootEnvironment
    trace: Trace


class Preview(msgspec.Struct, frozen=True):
    """A proposal, the target before it, and the target as it would be."""

    proposal: Proposal
    settings: MendSettings
    before: Examined
    after: Examined

    def result(
        self, undo_point: str | None = None, after: Trace | None = None, warning: str = ""
    ) -> MendResult:
        """The document of this repair, carried out where there is an undo point."""
        before, seen = self.before.trace, after or self.after.trace
        later = seen.map if before.map != seen.map else None
        earlier = None
        if before.map is not None and later is not None:
            earlier = lost_between(before.map, later)
        return MendResult(
            repair=self.proposal.repair,
            says=self.proposal.says,
            proof=_proof(seen, undo_point is not None),
            done=undo_point is not None,
            writes=tuple(_write_result(change) for change in self.proposal.changes),
            undo_point=undo_point,
            before=before.verdict,
            after=seen.verdict,
            failing_before=before.failing_phase,
            failing_after=seen.failing_phase,
            map_before=earlier,
            map_after=later,
            warning=warning,
        )


def examine(target: Target, settings: MendSettings) -> Examined:
    """Open and trace a target.

    Raises:
        InputError
    """
    environment = open_environment(target, settings.keys)
    trace = trace_environment(target, environment, settings.firmware, settings.boot_options)
    return Examined(target, environment, trace)


def preview(
    repair: RepairId,
    before: Examined,
    settings: MendSettings,
    progress: Progress = silent,
) -> Preview:
    """What a repair would do, tried on a write overlay. Reads only.

    Args:
        progress: told how far it is where a repair has to read the whole disk.

    Raises:
        RefusedError: a guard says no, or the target would not be better for it.
    """
    if repair is RepairId.HEALTHY_PARTS and not settings.whole_way:
        try:
            return _preview(repair, before, settings, progress)
        except RefusedError:
            settings = msgspec.structs.replace(settings, whole_way=True)
    return _preview(repair, before, settings, progress)


def _preview(
    repair: RepairId, before: Examined, settings: MendSettings, progress: Progress
) -> Preview:
    proposal = propose(repair, before.environment, before.trace, settings, progress)
    changes = before.environment.on_disk(proposal.changes)
    proposal = msgspec.structs.replace(proposal, changes=changes)
    after = examine(before.target.overlaid(proposal.changes), settings)
    fault = find_fault(before.trace, after.trace, proposal)
    if fault:
        raise RefusedError(f"{repair} would not help: {fault}")
    return Preview(proposal, settings, before, after)


def carry_out(
    planned: Preview, target: Target, journal: Journal, at: str
) -> tuple[MendResult, Trace]:
    """Write what was previewed and prove it; also gives the trace afterwards.

    Args:
        target: the same target, opened for writing.
        journal: where its undo points live.
        at: the time, in RFC 3339.

    Raises:
        RefusedError: the target changed since the preview, or an earlier repair was cut off.
        RepairFailedError: it failed, was stopped, or the target is not better for it; everything
            was put back.
    """
    journal.settle(target, at)
    proposal, settings = planned.proposal, planned.settings
    disks = (planned.before.environment.disk, planned.after.environment.disk)
    identifiers = dict.fromkeys(part for disk in disks for part in identifier_ranges(disk))
    point = journal.write(target, proposal, identifiers, at)
    with journal.rolled_back(target, point, at, f"{proposal.repair} could not be proved"):
        after = trace_target(target, settings.firmware, settings.boot_options, settings.keys)
        fault = find_fault(planned.before.trace, after, proposal)
        if fault:
            raise RepairFailedError(fault)
    warning = journal.finish(target, point, at)
    return planned.result(point.file.id, after, warning), after


def find_fault(before: Trace, after: Trace, proposal: Proposal) -> str:
    """Why the later trace does not prove the repair; empty when it does.

    Every finding that the repair answers must be gone; where it answers none, it has to look at the
    trace itself. Beyond that the start must get farther, or at least nothing fatal may be new in
    the phases that could be read before.
    """
    left = {_place_of(finding) for finding in after.findings}
    for finding in proposal.answers:
        if _place_of(finding) in left:
            return f"{finding.id} is still found."
    if proposal.fault_after is not None:
        fault = proposal.fault_after(after)
        if fault:
            return fault
    elif not proposal.answers:
        return "no finding asks for it, so nothing could prove it."
    if _passed(after) > _passed(before):
        return ""  # it gets farther; what it stops at now lay hidden behind
    if _passed(after)[0] < _passed(before)[0]:
        return f"the start would already stop at {after.failing_phase}."
    reached = {row.id for row in before.phases if row.state is not PhaseState.NOT_REACHED}
    if proposal.answers:  # what lies behind a mended link could not be seen before
        mended = min(finding.phase.rank for finding in proposal.answers)
        reached = {phase for phase in reached if phase.rank < mended}
    had = {finding.id for finding in before.fatal}
    new = {found.id for found in after.fatal if found.phase in reached} - had
    return f"{sorted(new)[0]} is newly found." if new else ""


def _proof(after: Trace, done: bool) -> tuple[str, ...]:
    """What was done on this target, now."""
    told = ["read back"] if done else ["tried in memory only"]
    told.append("traced again")
    told += [
        f"boot code run in the emulator to {check.ran_to}" for check in after.checks if check.ran_to
    ]
    return tuple(told)


def _place_of(finding: Finding) -> tuple[object, ...]:
    """What makes a finding the same one in two traces."""
    where = finding.where
    return finding.id, where.offset, where.path, where.line


def _passed(trace: Trace) -> tuple[int, int]:
    """How far a start gets: phase, and checks before the one that fails."""
    phase = trace.failing_phase.rank if trace.failing_phase else len(PHASES)
    states = [check.state for check in trace.checks]
    failing = states.index(PhaseState.FAILED) if PhaseState.FAILED in states else len(states)
    return phase, failing


def _write_result(change: Change) -> WriteResult:
    return WriteResult(
        offset=0 if isinstance(change, FileChange) else change.offset,
        length=change.length,
        path=change.path if isinstance(change, FileChange) else None,
        says=change.says,
        before_hex=hex_preview(change.before or b""),
        after_hex=hex_preview(change.after or b""),
    )


# Several repairs, one after the other, each building on the one before.


class MendAllResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="mend-all/1"
):
    """Repairs one after the other. `refused` are those that findings still call for and that were
    not done, with what would settle each.
    """

    done: bool
    steps: tuple[MendResult, ...]
    refused: tuple[BarredRepair, ...]
    before: str
    after: str
    failing_before: str | None
    failing_after: str | None


class PlannedSequence(msgspec.Struct, frozen=True):
    """Every repair in turn, each tried on the bytes that the one before would leave."""

    before: Examined
    previews: tuple[Preview, ...]
    refused: tuple[BarredRepair, ...]

    def result(
        self, steps: Sequence[MendResult] | None = None, after: Trace | None = None
    ) -> MendAllResult:
        """The document of the sequence.

        Args:
            steps: what was carried out; None where nothing was.
            after: the trace behind the last of them.
        """
        last = self.previews[-1].after.trace if self.previews else self.before.trace
        seen, before = after or last, self.before.trace
        listed = steps if steps is not None else [planned.result() for planned in self.previews]
        return MendAllResult(
            done=bool(steps),
            steps=tuple(listed),
            refused=self.refused,
            before=before.verdict,
            after=seen.verdict,
            failing_before=before.failing_phase,
            failing_after=seen.failing_phase,
        )


def wanted(trace: Trace) -> tuple[RepairId, ...]:
    """The repairs that the findings call for: those of what keeps the PC from starting first, each
    kind in the order in which they build on each other.
    """
    named = {repair for finding in trace.findings for repair in finding.repairs}
    urgent = {repair for finding in trace.fatal for repair in finding.repairs}
    listed = [repair for repair in RepairId if repair in named]
    return tuple(sorted(listed, key=lambda repair: repair not in urgent))


def preview_all(
    before: Examined, settings: MendSettings, progress: Progress = silent
) -> PlannedSequence:
    """Plan every repair that is called for, each on the bytes that the one before would leave. One
    that is refused does not keep others from being done, and is asked again after each of them.
    Where there is a healthy copy, what it can put back comes first. Reads only.
    """
    now, previews, refused = before, list[Preview](), dict[RepairId, BarredRepair]()
    for _ in PHASES if settings.healthy is not None else ():
        if not now.trace.fatal:
            break
        try:
            planned = preview(RepairId.HEALTHY_PARTS, now, settings, progress)
        except RefusedError as error:
            refused[RepairId.HEALTHY_PARTS] = barred_by(RepairId.HEALTHY_PARTS, error, True)
            break
        previews.append(planned)
        now = planned.after
    done = {RepairId.HEALTHY_PARTS}
    while (planned_next := _next(now, settings, progress, done, refused)) is not None:
        previews.append(planned_next)
        done.add(planned_next.proposal.repair)
        now = planned_next.after
    # A healthy copy was named by the technician: that it was passed over is said in any case.
    called_for = {RepairId.HEALTHY_PARTS, *wanted(now.trace)}
    left = tuple(refused[repair] for repair in refused if repair in called_for)
    return PlannedSequence(before, tuple(previews), left)


def _next(
    now: Examined,
    settings: MendSettings,
    progress: Progress,
    done: set[RepairId],
    refused: dict[RepairId, BarredRepair],
) -> Preview | None:
    """The first repair that is called for and let through; those that are refused are noted."""
    urgent = {repair for finding in now.trace.fatal for repair in finding.repairs}
    for repair in wanted(now.trace):
        if repair in done:
            continue
        try:
            planned = preview(repair, now, settings, progress)
        except (RefusedError, UsageError) as error:
            refused[repair] = barred_by(repair, error, repair in urgent)
            continue
        refused.pop(repair, None)
        return planned
    return None


def barred_by(repair: RepairId, error: MendingError, fatal: bool) -> BarredRepair:
    """What is in the way of a repair."""
    option = error.option if isinstance(error, RefusedError) else ""
    return BarredRepair(repair=repair, says=error.says, hint=error.hint, option=option, fatal=fatal)


# Which of the repairs that findings call for can be done, and what is in the way of the others.
#
# A finding names repairs by its kind; whether one is possible on this disk only its proposal knows.
# So each is asked, in the order in which they build on each other. One that is refused may wait for
# another (boot code needs the flag, the flag a boot sector), so after each that is let through the
# rest is asked again, on the disk as it would be then. Nothing is written.


_SMALL = 1 << 30
"""In bytes: larger disks are not searched just to tell whether a repair could be done."""
_MOST_ROUNDS = 6


def with_offers(found: Examined, settings: MendSettings) -> Trace:
    """A trace whose findings name only repairs that can be done, and that says what is in the way
    of the others.

    Raises:
        InputError
    """
    now, possible, barred = found, set[RepairId](), dict[RepairId, BarredRepair]()
    unsearched = set[RepairId]()
    may_search = found.trace.target.bytes <= _SMALL
    settings = msgspec.structs.replace(settings, searching=may_search, asking=True)
    for _ in range(_MOST_ROUNDS):
        let_through: Examined | None = None
        for repair in wanted(now.trace):
            if repair in possible:
                continue
            try:
                proposal = propose(repair, now.environment, now.trace, settings, silent)
            except WholeDiskError:
                possible.add(repair)
                unsearched.add(repair)
                continue
            except MendingError as error:
                urgent = any(repair in finding.repairs for finding in now.trace.fatal)
                barred[repair] = barred_by(repair, error, urgent)
                continue
            possible.add(repair)
            barred.pop(repair, None)
            if barred and let_through is None:
                changes = now.environment.on_disk(proposal.changes)
                let_through = examine(now.target.overlaid(changes), settings)
        if let_through is None or not barred:
            break
        now = let_through
    asked = wanted(found.trace)
    return msgspec.structs.replace(
        found.trace,
        findings=tuple(_only(finding, possible) for finding in found.trace.findings),
        unsearched=tuple(repair for repair in asked if repair in unsearched),
        barred=tuple(barred[repair] for repair in asked if repair in barred),
    )


def _only(finding: Finding, possible: set[RepairId]) -> Finding:
    kept = tuple(repair for repair in finding.repairs if repair in possible)
    return finding if kept == finding.repairs else msgspec.structs.replace(finding, repairs=kept)
