"""One repair from beginning to end: trace, propose, try it in memory, write, trace again."""

from pathlib import Path

import msgspec

from mending.boot import Trace, trace_target
from mending.disk import DiskMap, Progress, lost_between, silent
from mending.model import PHASES, Change, FileChange, PhaseState, RefusedError, RepairFailedError, hex_preview
from mending.repair.journal import roll_back, write_point
from mending.repair.points import belongs_to, load_points
from mending.repair.proposal import Leave, Proposal
from mending.repair.registry import propose
from mending.repair.touching import Ground, as_it_would_be


class WriteResult(msgspec.Struct, frozen=True, kw_only=True):
    """One range that is or would be written; `path` is for repairs on files."""

    offset: int
    length: int
    path: str | None
    says: str
    before_hex: str
    after_hex: str


class MendResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="mend/1"):
    """What a repair did, or would do where `done` is false. The maps are None where the table stays as it is."""

    repair: str
    says: str
    done: bool
    writes: tuple[WriteResult, ...]
    undo_point: str | None
    before: str
    after: str
    failing_before: str | None
    failing_after: str | None
    map_before: DiskMap | None
    map_after: DiskMap | None


class Preview(msgspec.Struct, frozen=True):
    """A proposal, the trace before it, and the trace of the target as it would be."""

    proposal: Proposal
    leave: Leave
    before: Trace
    after: Trace

    def result(self, undo_point: str | None = None, after: Trace | None = None) -> MendResult:
        """The document of this repair, carried out where there is an undo point."""
        seen = after or self.after
        earlier, later = self.before.map, seen.map if self.before.map != seen.map else None
        return MendResult(
            repair=self.proposal.repair,
            says=self.proposal.says,
            done=undo_point is not None,
            writes=tuple(_write_result(patch) for patch in self.proposal.patches),
            undo_point=undo_point,
            before=self.before.verdict,
            after=seen.verdict,
            failing_before=self.before.failing_phase,
            failing_after=seen.failing_phase,
            map_before=lost_between(earlier, later) if earlier is not None and later is not None else None,
            map_after=later,
        )


def preview(repair: str, source: Ground, leave: Leave, progress: Progress = silent) -> Preview:
    """What a repair would do, tried on the target's bytes in memory. Reads only.

    Args:
        progress: told how far it is where a repair has to read the whole disk.

    Raises:
        UsageError: no such repair.
        RefusedError: a guard says no, or the target would not be better for it.
    """
    before = trace_target(source, leave.firmware, leave.options)
    proposal = propose(repair, source, before, leave, progress)
    after = trace_target(as_it_would_be(source, proposal.patches), leave.firmware, leave.options)
    fault = worse(before, after, proposal)
    if fault:
        raise RefusedError(f"{repair} would not help: {fault}")
    return Preview(proposal, leave, before, after)


def carry_out(planned: Preview, source: Ground, folder: Path, at: str) -> tuple[MendResult, Trace]:
    """Write what was previewed and prove it; also gives the trace afterwards.

    Raises:
        RefusedError: the target changed since the preview, or an earlier repair was cut off.
        RepairFailedError: it failed, or the target is not better for it; everything was put back.
    """
    cut_off = [one for one in load_points(folder) if one.state.state == "planned" and belongs_to(one, source)]
    if cut_off:
        raise RefusedError(f"An earlier repair was cut off half-way: {cut_off[0].file.id}.", "Undo it first.")
    point = write_point(source, planned.proposal, folder, at)
    after = trace_target(source, planned.leave.firmware, planned.leave.options)
    fault = worse(planned.before, after, planned.proposal)
    if fault:
        roll_back(source, point, at)
        raise RepairFailedError(f"{planned.proposal.repair} was rolled back: {fault}")
    return planned.result(point.file.id, after), after


def worse(before: Trace, after: Trace, proposal: Proposal) -> str:
    """Why the later trace is no improvement; empty when it is one."""
    left = {finding.id for finding in after.findings} & set(proposal.answers)
    if left:
        return f"{sorted(left)[0]} is still found."
    if _passed(after) > _passed(before):
        return ""  # it gets farther; what it stops at now lay hidden behind
    new = {finding.id for finding in after.fatal} - {finding.id for finding in before.fatal}
    return f"{sorted(new)[0]} is newly found." if new else ""


def _passed(trace: Trace) -> tuple[int, int]:
    """How far a start gets: phase, and rungs below the one that breaks."""
    phase = trace.failing_phase.rank if trace.failing_phase else len(PHASES)
    states = [rung.state for rung in trace.rungs]
    return phase, states.index(PhaseState.FAILED) if PhaseState.FAILED in states else len(states)


def _write_result(change: Change) -> WriteResult:
    path = change.path if isinstance(change, FileChange) else None
    return WriteResult(
        offset=0 if isinstance(change, FileChange) else change.offset,
        length=change.length,
        path=path,
        says=change.says,
        before_hex=hex_preview(change.before or b""),
        after_hex=hex_preview(change.after or b""),
    )
