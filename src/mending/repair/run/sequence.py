"""Several repairs, one after the other, each building on the one before."""

from collections.abc import Sequence

import msgspec

from mending.boot.chain import Trace
from mending.model import PHASES, Progress, RefusedError, RepairId, silent
from mending.repair.base import MendSettings
from mending.repair.run.mend import Examined, MendResult, Preview, preview


class MendAllResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="mend-all/1"
):
    """Repairs one after the other. `stopped` says why the next one was not done; None when none is
    called for.
    """

    done: bool
    steps: tuple[MendResult, ...]
    stopped: str | None
    before: str
    after: str
    failing_before: str | None
    failing_after: str | None


class PlannedSequence(msgspec.Struct, frozen=True):
    """Every repair in turn, each tried on the bytes that the one before would leave."""

    before: Examined
    previews: tuple[Preview, ...]
    stopped: str | None

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
            stopped=self.stopped,
            before=before.verdict,
            after=seen.verdict,
            failing_before=before.failing_phase,
            failing_after=seen.failing_phase,
        )


def wanted(trace: Trace) -> tuple[RepairId, ...]:
    """The repairs that the findings call for, in the order in which they build on each other."""
    named = {repair for finding in trace.findings for repair in finding.repairs}
    return tuple(repair for repair in RepairId if repair in named)


def preview_all(
    before: Examined, settings: MendSettings, progress: Progress = silent
) -> PlannedSequence:
    """Plan every repair that is called for, up to the first that is refused and has no other in its
    place. Where there is a healthy copy, what it can put back comes first. Reads only.
    """
    now, previews, tried = before, list[Preview](), set[RepairId]()
    passed_over: str | None = None
    for _ in PHASES if settings.healthy is not None else ():
        if not now.trace.fatal:
            break
        try:
            planned = preview(RepairId.HEALTHY_PARTS, now, settings, progress)
        except RefusedError as error:
            passed_over = f"{RepairId.HEALTHY_PARTS}: {error.says} {error.hint}".strip()
            break
        previews.append(planned)
        now = planned.after
    while repairs := [repair for repair in wanted(now.trace) if repair not in tried]:
        repair = repairs[0]
        tried.add(repair)
        try:
            planned = preview(repair, now, settings, progress)
        except RefusedError as error:
            stopped = f"{repair}: {error.says} {error.hint}".strip()
            if _has_another_way(now.trace, repair, tried):
                continue
            return PlannedSequence(before, tuple(previews), stopped)
        previews.append(planned)
        now = planned.after
    return PlannedSequence(before, tuple(previews), passed_over)


def _has_another_way(trace: Trace, refused: RepairId, tried: set[RepairId]) -> bool:
    """Whether everything that a refused repair would answer names a further one."""
    asking = [set(finding.repairs) for finding in trace.findings if refused in finding.repairs]
    return all(repairs - tried for repairs in asking)
