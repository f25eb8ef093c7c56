"""Several repairs, one after the other, each building on the one before."""

from collections.abc import Sequence

import msgspec

from mending.boot import Trace, trace_target
from mending.disk import Progress, silent
from mending.model import RefusedError
from mending.repair.mend import MendResult, preview
from mending.repair.proposal import Leave
from mending.repair.registry import REPAIRS
from mending.repair.touching import Ground, as_it_would_be


class MendAllResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="mend-all/1"):
    """Repairs one after the other. `stopped` says why the next one was not done; None when none is called for."""

    done: bool
    steps: tuple[MendResult, ...]
    stopped: str | None
    before: str
    after: str
    failing_before: str | None
    failing_after: str | None


def wanted(trace: Trace) -> tuple[str, ...]:
    """The repairs that the findings call for and that this version carries out, in the order of the registry."""
    named = {repair for finding in trace.findings for repair in finding.repairs}
    return tuple(repair for repair in REPAIRS if repair in named)


def next_repair(trace: Trace, steps: Sequence[MendResult]) -> str | None:
    """The first one wanted that is not among the steps; None when there is none."""
    done = {one.repair for one in steps}
    return next((repair for repair in wanted(trace) if repair not in done), None)


def preview_all(source: Ground, leave: Leave, progress: Progress = silent) -> MendAllResult:
    """Every repair in turn, each tried on the bytes that the one before would leave. Reads only."""
    before = now = trace_target(source, leave.firmware, leave.options)
    steps: list[MendResult] = []
    while repair := next_repair(now, steps):
        try:
            planned = preview(repair, source, leave, progress)
        except RefusedError as error:
            return sum_up(steps, reason(repair, error), before, now, done=False)
        steps.append(planned.result())
        source, now = as_it_would_be(source, planned.proposal.patches), planned.after
    return sum_up(steps, None, before, now, done=False)


def reason(repair: str, error: RefusedError) -> str:
    """Why a sequence stopped."""
    return f"{repair}: {error.says} {error.hint}".strip()


def sum_up(
    steps: Sequence[MendResult], stopped: str | None, before: Trace, after: Trace, *, done: bool
) -> MendAllResult:
    """The document of a sequence."""
    return MendAllResult(
        done=done, steps=tuple(steps), stopped=stopped, before=before.verdict, after=after.verdict,
        failing_before=before.failing_phase, failing_after=after.failing_phase,
    )  # fmt: skip
