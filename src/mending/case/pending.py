"""What is pending in a case: the next step of a visit that was begun, a test start, a repair."""

from mending.case.state import CaseState
from mending.knowledge import Pack, ReportKind
from mending.model import REPAIRS, RepairId, Risk

_CHANGED = {ReportKind.MENDED, ReportKind.DONE}


def next_step(state: CaseState, pack: Pack) -> str | None:
    """The next step of the visit that was begun; None where it is over."""
    if state.visit is None:
        return None
    reported = dict(state.in_visit)
    if ReportKind.FOUND in reported.values():
        return None  # what was found may call for something else
    not_run = {step for step, kind in reported.items() if kind is ReportKind.NOT_RUN}
    for planned in state.visit.steps:
        step = pack.steps.get(planned.step)
        if step is None or step.id in reported:
            continue
        if step.repair is not None and state.disk is None:
            continue  # planned behind the trace, but the disk did not come into the case
        if not not_run & {*step.after, *step.rather_after}:
            return step.id
    return None


def start_due(state: CaseState, pack: Pack) -> bool:
    """Whether a test start comes before anything else: something was changed, and the visit is
    over, a repair says that it mended something, or what comes next in it puts something at stake.
    """
    changed = [
        report
        for report in state.since_start
        if report.kind in _CHANGED and report.step in pack.steps and pack.steps[report.step].fixes
    ]
    if not changed or still_ours(state):
        return False
    step = next_step(state, pack)
    mended = any(report.kind is ReportKind.MENDED for report in changed)
    return step is None or mended or pack.steps[step].stakes is not Risk.NOTHING


def still_ours(state: CaseState) -> bool:
    """Whether the disk still cannot start for something that was not tried yet and that we mend."""
    tried = {attempt.step for attempt in state.tried}
    fatal = state.trace.fatal if state.trace is not None else ()
    called_for = {name for each in fatal for name in each.repairs}
    return any(REPAIRS[repair].step not in tried for repair in RepairId if repair in called_for)
