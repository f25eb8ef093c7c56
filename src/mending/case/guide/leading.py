"""What is asked next, told from the record alone.

The order: a case that was handed over is taken up first; a PC that works is checked from cold and
closed; a pending test start comes before everything that is new; a visit that was begun is gone on
with; then the few questions of a first call, the question that pays most, the plan's next visit;
and where nothing is left, handing over.
"""

import msgspec

from mending.case import closing
from mending.case.events import Visiting, VisitStep
from mending.case.folder import Case, record
from mending.case.guide import wording
from mending.case.guide.closing_prompts import closing_prompt
from mending.case.guide.prompts import Prompt
from mending.case.pending import next_step, start_due, still_ours
from mending.case.state import CaseState
from mending.case.thinking import facts_of, plan_of, question_of
from mending.knowledge import Pack, WhyNotRun
from mending.model import Hand
from mending.plan import VisitResult

MOST_QUESTIONS = 4
"""Asked before the first step at most: whoever calls wants something done."""


def lead(case: Case, pack: Pack, hand: Hand, more: bool = False) -> tuple[Case, Prompt | None]:
    """The next prompt; None once the case is closed. What is begun by asking (a visit), or ends
    with the last answer (the case), is recorded.

    Args:
        more: ask what pays before the next step, though enough was asked.

    Raises:
        RefusedError, InputError: the case cannot be written.
    """
    state = case.state
    if state.closed is not None:
        return case, None
    if state.handed_over is not None:
        return case, wording.take_up(state.handed_over)
    if state.works:
        prompt = closing_prompt(case, pack)
        return (case, prompt) if prompt is not None else (_close(case, pack, hand), None)
    if state.under_watch:
        return case, wording.watch(state)
    if start_due(state, pack):
        return case, wording.start(state)
    step = next_step(state, pack)
    if step is not None and more and (asked := question_of(state, pack).sign) is not None:
        return case, wording.question(pack, asked)
    if step is not None:
        return case, wording.step(state, pack, step)
    return _lead_on(case, pack, hand, more)


def _lead_on(case: Case, pack: Pack, hand: Hand, more: bool) -> tuple[Case, Prompt]:
    """Between visits: questions, then the next visit. Nothing is asked while the disk itself says
    what is to be mended, and a few questions at most before the first step.
    """
    state = case.state
    asked = None
    enough = not state.begun and state.questions >= MOST_QUESTIONS and not more
    if not (still_ours(state) or enough):
        asked = _first_question(state, pack) or question_of(state, pack).sign
    if asked is not None:
        return case, wording.question(pack, asked)
    plan = plan_of(state, pack)
    visit = _next_visit(state, plan.visits)
    if visit is None:
        return case, wording.hand_over(state, pack, plan)
    begun, first = begin_visit(case, hand, visit)
    return begun, wording.step(begun.state, pack, first)


def begin_visit(case: Case, hand: Hand, visit: VisitResult) -> tuple[Case, str]:
    """Record that a visit is begun; also its first step.

    Raises:
        RefusedError, InputError: the case cannot be written.
    """
    steps = tuple(
        VisitStep(step=step.id, minutes=step.minutes, chance=step.chance, why=step.why)
        for step in visit.steps
    )
    visiting = Visiting(at=hand.since, place=visit.place, how=visit.how, steps=steps)
    return record(case, hand, visiting), steps[0].step


def _close(case: Case, pack: Pack, hand: Hand) -> Case:
    said = case.state.checked
    put_back = {step: said[closing.put_back_key(step)] for step in closing.to_put_back(case, pack)}
    minutes = float(said[closing.MINUTES]) if said.get(closing.MINUTES) else None
    cause, fix = said[closing.CAUSE], said[closing.FIX]
    return closing.closed(case, pack, hand, cause, fix, put_back, minutes)


def _first_question(state: CaseState, pack: Pack) -> str | None:
    """Of the questions that a first call begins with, the first that is open. A disk on the bench
    tells more than a caller can.
    """
    if state.trace is not None or state.begun:
        return None
    words = [name for name in wording.FIRST_WORDS if name not in state.notes]
    facts = sorted(
        (fact for fact in pack.facts.values() if fact.first), key=lambda fact: fact.first
    )
    known = facts_of(state, pack)
    open_facts = [fact.id for fact in facts if fact.id not in known]
    return next((name for name in [*words, *open_facts] if name not in state.passed), None)


def _next_visit(state: CaseState, visits: tuple[VisitResult, ...]) -> VisitResult | None:
    """The first visit of the plan, without what was put off since the last test start as long as
    anything else is left.
    """
    put_off = {attempt.step for attempt in state.tried if attempt.why is WhyNotRun.NO_TIME} & {
        report.step for report in state.since_start
    }
    for visit in visits:
        steps = tuple(step for step in visit.steps if step.id not in put_off)
        if steps:
            return msgspec.structs.replace(visit, steps=steps)
    return visits[0] if visits else None
