"""What makes one ask back before a step is recorded or done: it does not go with what is known of
this PC, what it builds on was not done, or personal files are at stake without what has to come
first.
"""

from collections.abc import Mapping

from mending.case.state import CaseState
from mending.case.thinking import facts_of
from mending.knowledge import Pack, ReportKind, Step, answers_of
from mending.model import Risk
from mending.plan import BACKUP


def doubts_of(state: CaseState, pack: Pack, name: str) -> tuple[str, ...]:
    """One sentence for each; none for a step that goes with all that is known."""
    step = pack.steps[name]
    done = {each.step for each in state.tried if each.report is not ReportKind.NOT_RUN}
    known = {**state.seen, **facts_of(state, pack)}
    return (*_against(pack, step, known), *_not_done(step, done), *_at_stake(step, done, known))


def _against(pack: Pack, step: Step, known: Mapping[str, str]) -> list[str]:
    """What it needs is known to be otherwise."""
    found = []
    for need, answers in step.needs.items():
        if pack.question(need) is None or known.get(need) in {None, *answers_of(answers)}:
            continue
        wanted = " or ".join(answers_of(answers))
        found.append(f"{step.id} is for {need} = {wanted}; by what is known it is {known[need]}.")
    return found


def _not_done(step: Step, done: set[str]) -> list[str]:
    """Without the step before, it may have been done to something else."""
    return [
        f"{other} was not done before it: it may have been done to another volume or system."
        for other in step.after
        if other not in done
    ]


def _at_stake(step: Step, done: set[str], known: Mapping[str, str]) -> list[str]:
    """What erases wants a copy, and tests that speak against a dying drive."""
    if step.stakes is not Risk.FILES:
        return []
    found = []
    if known.get(BACKUP) != "yes":
        found.append("Personal files are lost with it, and nobody told of a copy of them.")
    missing = [other for other in step.rather_after if other not in done]
    if missing:
        found.append(f"{' and '.join(missing)} should speak against dying hardware before it.")
    return found
