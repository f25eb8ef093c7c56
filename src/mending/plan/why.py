"""Why a step stands where it does: what the plan would cost with it first, and last."""

from collections.abc import Mapping, Sequence

import msgspec

from mending.model import Place, UsageError
from mending.plan.direct_fix import direct_fix_for
from mending.plan.objective import Beliefs, Objective, objective_of
from mending.plan.options import Option, VisitCost
from mending.plan.order import Care
from mending.plan.results import PlanResult


class WhyResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="why/1"):
    """A step of a plan moved. Costs are expected minutes, stakes and handing over among them
    (`docs/planning.md`).

    Attributes:
        first: with the step, and what it needs, in a visit of its own before all others; last:
            behind all others.
        without: with the step, and what needs it, left out.
    """

    step: str
    planned: float
    first: float
    last: float
    without: float


def why_there(
    plan: PlanResult,
    step: str,
    beliefs: Beliefs,
    options: Sequence[Option],
    visits: Mapping[Place, VisitCost],
    care: Care,
) -> WhyResult:
    """Compare the plan with the same plan in which one step is moved.

    Raises:
        UsageError: a step that it has not.
    """
    order = [[step.id for step in visit.steps] for visit in plan.visits]
    names = [name for steps in order for name in steps]
    if step not in names:
        raise UsageError(
            f"The plan has no step called {step!r}.", f"It has: {', '.join(names) or 'none'}."
        )
    by_id = {option.id: option for option in options}
    planned = [by_id[name] for name in names]
    reachable = [option for option in options if not option.blocked]
    straight = direct_fix_for(reachable, visits, care.prices, care.hand_over)
    problem = objective_of(beliefs, planned, visits, care.prices, care.hand_over, straight)
    before = _needed(by_id, step)
    behind = {name for name in names if step in _needed(by_id, name)}
    return WhyResult(
        step=step,
        planned=_cost(problem, names, order),
        first=_cost(problem, names, [*_by_place(by_id, names, before), *_left(order, before)]),
        last=_cost(problem, names, [*_left(order, behind), *_by_place(by_id, names, behind)]),
        without=_cost(problem, names, _left(order, behind)),
    )


def _needed(by_id: Mapping[str, Option], step: str) -> set[str]:
    """A step, and all that it needs."""
    found, waiting = {step}, [step]
    while waiting:
        new = [name for name in by_id[waiting.pop()].after if name in by_id and name not in found]
        found |= set(new)
        waiting += new
    return found


def _by_place(
    by_id: Mapping[str, Option], names: Sequence[str], wanted: set[str]
) -> list[list[str]]:
    """Steps in the order of the plan, as visits of their own."""
    visits: list[list[str]] = []
    for name in (name for name in names if name in wanted):
        if visits and by_id[visits[-1][0]].place is by_id[name].place:
            visits[-1].append(name)
        else:
            visits.append([name])
    return visits


def _left(order: Sequence[Sequence[str]], without: set[str]) -> list[list[str]]:
    kept = [[name for name in steps if name not in without] for steps in order]
    return [steps for steps in kept if steps]


def _cost(problem: Objective, names: Sequence[str], order: Sequence[Sequence[str]]) -> float:
    at = {name: number for number, name in enumerate(names)}
    return round(problem.cost([[at[name] for name in steps] for steps in order]), 2)
