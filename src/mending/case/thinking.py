"""What follows from a case: causes, the next question, the plan."""

from collections.abc import Mapping

from mending.case.state import CaseState
from mending.knowledge import Pack
from mending.plan import Care, PlanResult, Situation, WhyResult, make_plan, options_from, visit_costs, why_there
from mending.reason import CausesResult, QuestionResult, ReportKind, believe, best_question


def causes_of(state: CaseState, pack: Pack) -> CausesResult:
    """Ranked causes."""
    return believe(pack, state.as_evidence())


def question_of(state: CaseState, pack: Pack) -> QuestionResult:
    """The most telling question that has not been asked."""
    return best_question(pack, state.as_evidence(), state.passed)


def plan_of(state: CaseState, pack: Pack, care: str = "files") -> PlanResult:
    """What to do, in order. Empty once the PC works.

    Args:
        care: a key of the pack's prices; `speed` may risk personal files without a copy.
    """
    situation = situation_of(state)
    options = [] if state.works else options_from(pack, situation, care == "speed")
    price = Care(pack.grades.prices[care], pack.grades.hand_over)
    return make_plan(causes_of(state, pack).beliefs, options, visit_costs(pack, situation), price)


def why_of(state: CaseState, pack: Pack, step: str, care: str = "files") -> WhyResult:
    """Why a step of the plan stands where it does. Raises UsageError for a step that is not in it."""
    situation = situation_of(state)
    options = options_from(pack, situation, care == "speed")
    price = Care(pack.grades.prices[care], pack.grades.hand_over)
    beliefs, costs = causes_of(state, pack).beliefs, visit_costs(pack, situation)
    return why_there(plan_of(state, pack, care), step, beliefs, options, costs, price)


def situation_of(state: CaseState) -> Situation:
    """What decides which steps can be done."""
    findings = state.trace.findings if state.trace else ()
    return Situation(
        facts=state.facts,
        tried=_tried(state),
        on_bench=state.disk is not None,
        traced=state.trace is not None,
        repairs=frozenset(repair for finding in findings for repair in finding.repairs),
    )


def _tried(state: CaseState) -> Mapping[str, bool]:
    """Steps that were tried; true where one could be run."""
    return {one.step: one.report is not ReportKind.NOT_RUN for one in state.tried}
