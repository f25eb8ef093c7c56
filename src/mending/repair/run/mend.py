"""One repair from beginning to end: trace, propose, try it on a write overlay, write, trace again.

What was proposed and shown is what is written: `carry_out` takes the preview as it is, after the
bytes that it would change were compared with those that it was made for.
"""

import msgspec

from mending.boot.chain import BootEnvironment, Trace
from mending.boot.trace import open_environment, trace_environment, trace_target
from mending.disk.layout import identifier_ranges
from mending.disk.scan import DiskMap, lost_between
from mending.model import (
    PHASES,
    Change,
    FileChange,
    Finding,
    PhaseState,
    Progress,
    RefusedError,
    RepairFailedError,
    RepairId,
    hex_preview,
    silent,
)
from mending.repair.base import MendSettings, Proposal
from mending.repair.journal import Journal
from mending.repair.run.registry import propose
from mending.source import Target


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
