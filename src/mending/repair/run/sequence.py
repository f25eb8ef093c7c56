"""Several repairs, one after the other, each building on the one before."""

from collections.abc import Sequence

import msgspec

from mending.boot.chain import BarredRepair, Trace
from mending.model import PHASES, MendingError, Progress, RefusedError, RepairId, UsageError, silent
from mending.repair.base import MendSettings
from mending.repair.run.mend import Examined, MendResult, Preview, preview


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
