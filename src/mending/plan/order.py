"""The plan: the order of visits that costs least, as `docs/planning.md` counts it."""

from collections.abc import Mapping, Sequence

import msgspec

from mending.model import Place, Risk
from mending.plan.bound import lower_bound
from mending.plan.direct_fix import Named, direct_fix_for
from mending.plan.exact import MOST_IN_A_PLACE, MOST_STEPS, best_visits
from mending.plan.improve import improved
from mending.plan.objective import Beliefs, Objective, objective_of
from mending.plan.options import Option, VisitCost
from mending.plan.residual_belief import ResidualBelief
from mending.plan.results import BlockedResult, PlanResult
from mending.plan.summary import curve_of, expected_of, marks_of, visits_of

PROMISING = 0.003
"""A step below this chance to mend or to name the cause is not worth planning."""
TELLING = 0.01
"""The same for a step that only tells."""
_WORTH_TELLING = 0.01
"""Chance from which it is said why a step cannot be done."""
_WINDOW = 12
"""Steps that are ordered at once where more could help than can be ordered exactly; a twentieth of
a second's work.
"""


_QUICK = 7
"""The same where many plans are compared. Such a plan is not made better by single moves: that took
nine tenths of the time and chose the same question in 17 of 17 vignettes.
"""


class Care(msgspec.Struct, frozen=True):
    """What a person cares for.

    Attributes:
        prices: minutes that a stake costs, by its name.
        hand_over: minutes that handing over costs.
    """

    prices: Mapping[str, float]
    hand_over: float


USUAL = Care({Risk.SETTINGS: 5.0, Risk.PROGRAMS: 30.0, Risk.FILES: 60.0}, 480.0)
"""For whoever has no pack at hand."""


def make_plan(
    beliefs: Beliefs,
    options: Sequence[Option],
    visits: Mapping[Place, VisitCost],
    care: Care = USUAL,
    prove: bool = False,
) -> PlanResult:
    """Order the options.

    Args:
        beliefs: chance by cause, or by causes that are there together; those that no option knows
            count as never fixed.
        prove: where the order is not exact, also work out how far from the best it is at most;
            takes a second or two.
    """
    able = [option for option in options if not option.blocked]
    named = direct_fix_for(able, visits, care.prices, care.hand_over)
    relevant = _relevant(beliefs, able)
    problem = objective_of(beliefs, relevant, visits, care.prices, care.hand_over, named)
    exact = _fits(relevant)
    order = (
        best_visits(problem)
        if exact
        else improved(problem, _start(beliefs, relevant, visits, care, problem, named))
    )
    steps = [in_turn(beliefs, [relevant[number] for number in visit]) for visit in order]
    curve = curve_of(beliefs, steps, visits, named)
    gap = 0.0 if exact else _gap(problem, order) if prove else None
    return PlanResult(
        visits=visits_of(beliefs, steps, visits, named),
        blocked=tuple(_blocked(beliefs, options)),
        expected_minutes=expected_of(beliefs, steps, visits, named),
        chance_by=marks_of(curve),
        curve=curve,
        cost=problem.cost(order),
        exact=exact,
        gap=gap,
    )


def quick_cost(
    beliefs: Beliefs,
    options: Sequence[Option],
    visits: Mapping[Place, VisitCost],
    care: Care = USUAL,
    named: Named | None = None,
) -> float:
    """What a good plan costs, without its words: for comparing what could be known.

    Args:
        named: `direct_fixes` of these options, where that is known already.
    """
    able = [option for option in options if not option.blocked]
    named = direct_fixes(options, visits, care) if named is None else named
    chosen = _promising(beliefs, _relevant(beliefs, able), _QUICK)
    part = objective_of(beliefs, chosen, visits, care.prices, care.hand_over, named)
    return part.cost(best_visits(part))


def direct_fixes(options: Sequence[Option], visits: Mapping[Place, VisitCost], care: Care) -> Named:
    """Where each cause leads once a report names it; it hangs on no belief."""
    able = [option for option in options if not option.blocked]
    return direct_fix_for(able, visits, care.prices, care.hand_over)


def _relevant(beliefs: Beliefs, able: Sequence[Option]) -> list[Option]:
    """The options that could help, with those that they need; none that waits for a report."""
    left = ResidualBelief(beliefs)
    able = [option for option in able if not option.once_told]
    return _with_needed([option for option in able if _promises(option, left)], able)


def _promises(option: Option, left: ResidualBelief) -> bool:
    """What only tells has to tell of something that may well be there."""
    return left.worth(option) >= (PROMISING if option.fixes else TELLING)


def in_turn(beliefs: Beliefs, steps: Sequence[Option]) -> list[Option]:
    """The steps of a visit by chance for a minute, each behind what it needs."""
    left = ResidualBelief(beliefs)
    waiting = sorted(steps, key=lambda option: (-left.worth(option) / option.minutes, option.id))
    turn: list[Option] = []
    while waiting:
        names = {option.id for option in waiting}
        following = next(option for option in waiting if not names & set(option.after))
        turn.append(following)
        waiting.remove(following)
    return turn


def _gap(problem: Objective, order: Sequence[Sequence[int]]) -> float:
    cost = problem.cost(order)
    bound = lower_bound(problem, cost, sum(problem.visit_minutes(visit) for visit in order))
    return max(1.0 - bound / cost, 0.0) if cost else 0.0


def _with_needed(useful: Sequence[Option], options: Sequence[Option]) -> list[Option]:
    """The useful ones whose needed steps can be done, and these steps. What is needed may need
    others in turn.
    """
    by_id = {option.id: option for option in options}
    kept = {option.id: option for option in useful}
    waiting = list(useful)
    while waiting:
        for name in waiting.pop().after:
            if name in by_id and name not in kept:
                kept[name] = by_id[name]
                waiting.append(by_id[name])
    while True:  # a step whose need cannot be met falls out, and with it those that need it
        lost = {option.id for option in kept.values() if not set(option.after) <= set(kept)}
        if not lost:
            return [option for option in options if option.id in kept]
        kept = {name: option for name, option in kept.items() if name not in lost}


def _fits(options: Sequence[Option]) -> bool:
    counts = [sum(option.place is place for option in options) for place in Place]
    return len(options) <= MOST_STEPS and max(counts) <= MOST_IN_A_PLACE


def _start(
    beliefs: Beliefs,
    relevant: list[Option],
    visits: Mapping[Place, VisitCost],
    care: Care,
    problem: Objective,
    named: Named,
) -> list[list[int]]:
    """An order to begin with: the best of the steps that promise most for their minutes."""
    chosen = _promising(beliefs, relevant, _WINDOW)
    part = objective_of(beliefs, chosen, visits, care.prices, care.hand_over, named)
    at = {option.id: number for number, option in enumerate(relevant)}
    order = [[at[chosen[number].id] for number in visit] for visit in best_visits(part)]
    return order if problem.obeys(order) else []


def _promising(beliefs: Beliefs, relevant: list[Option], most: int) -> list[Option]:
    """The steps that promise most for their minutes, each with all that it needs."""
    left, chosen = ResidualBelief(beliefs), list[Option]()
    for option in sorted(
        relevant, key=lambda option: (-left.worth(option) / option.minutes, option.id)
    ):
        group = [needed for needed in _with_needed([option], relevant) if needed not in chosen]
        if len(chosen) + len(group) <= most and _fits([*chosen, *group]):
            chosen += group
    return chosen


def _blocked(beliefs: Beliefs, options: Sequence[Option]) -> list[BlockedResult]:
    left = ResidualBelief(beliefs)
    rows = [
        BlockedResult(id=option.id, chance=left.fixed_by([option]), says=option.blocked)
        for option in options
        if option.blocked and left.fixed_by([option]) >= _WORTH_TELLING
    ]
    return sorted(rows, key=lambda row: -row.chance)
