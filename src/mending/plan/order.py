"""The plan: the order of visits that costs least, as `docs/planning.md` counts it."""

from collections.abc import Mapping, Sequence

import msgspec

from mending.model import Place, Stakes
from mending.plan.exact import MOST_IN_A_PLACE, MOST_STEPS, best_visits
from mending.plan.objective import Beliefs, Straight, objective_of, straight_for
from mending.plan.options import Option, VisitCost
from mending.plan.results import BlockedResult, PlanResult, StepResult, VisitResult

PROMISING = 0.01
"""A step below this chance to mend or to name the cause is not worth planning."""
_WINDOW = 14
"""Steps that are ordered at once where more could help than can be ordered exactly; a tenth of a second's work."""
_TURN = 0.2
"""Share of the beliefs that is left when it is time to look afresh which steps are useful."""
_MARKS = (30, 60, 120)


class Care(msgspec.Struct, frozen=True):
    """What a person cares for.

    Attributes:
        prices: minutes that a stake costs, by its name.
        hand_over: minutes that handing over costs.
    """

    prices: Mapping[str, float]
    hand_over: float


USUAL = Care({Stakes.SETTINGS: 5.0, Stakes.PROGRAMS: 30.0, Stakes.FILES: 60.0}, 480.0)
"""For whoever has no pack at hand."""


Named = Mapping[str, Straight]
"""Where a cause leads that a report names."""


def make_plan(
    beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost], care: Care = USUAL
) -> PlanResult:
    """Order the options.

    Args:
        beliefs: chance by cause; causes that no option knows count as never fixed.
    """
    reachable = [option for option in options if not option.blocked and not visits[option.place].blocked]
    named = straight_for(reachable, visits, care.prices, care.hand_over)
    rest, order, planned = reachable, list[list[Option]](), list[VisitResult]()
    exact, looked_at = True, set[str]()
    left: Beliefs = beliefs
    while useful := _with_needed(_useful(left, rest), rest):
        window = useful if _fits(useful) else _window(left, useful)
        chosen = _until_turned(left, _ordered(left, window, visits, care, named))
        if not chosen:
            break
        names = {option.id for option in useful}
        exact = exact and window is useful and (not order or names <= looked_at)
        looked_at = looked_at or names
        for steps in chosen:
            planned.append(_visit(steps, left, visits, named))
            left = _after_all(left, steps)
        order += chosen
        done = {option.id for steps in order for option in steps}
        rest = [_relieved(option, done) for option in reachable if option.id not in done]
    minutes, chances = _timeline(beliefs, order, visits, named)
    blocked = tuple(_blocked(beliefs, options, visits))
    return PlanResult(
        visits=tuple(planned), blocked=blocked, expected_minutes=minutes, chance_by=chances, exact=exact,
        gap=0.0 if exact else None,
    )  # fmt: skip


def chance_to_fix(beliefs: Beliefs, option: Option) -> float:
    """Chance that the PC starts because of this option, as a share of what is still believed."""
    total = sum(beliefs.values())
    return sum(beliefs.get(cause, 0.0) * chance for cause, chance in option.fixes.items()) / total if total else 0.0


def _worth(beliefs: Beliefs, option: Option) -> float:
    """Chance to mend or to name the cause, whichever is larger."""
    total = sum(beliefs.values()) or 1.0
    finds = sum(beliefs.get(cause, 0.0) * chance for cause, chance in option.finds.items()) / total
    return max(chance_to_fix(beliefs, option), finds)


def _until_turned(beliefs: Beliefs, order: list[list[Option]]) -> list[list[Option]]:
    """Visits up to where what was believed is mostly ruled out: other steps may be the useful ones then."""
    left, kept = beliefs, list[list[Option]]()
    for steps in order:
        kept.append(steps)
        left = _after_all(left, steps)
        if sum(left.values()) < _TURN * sum(beliefs.values()):
            break
    return kept


def _relieved(option: Option, done: set[str]) -> Option:
    """The same step without the needs that are met."""
    if not set(option.after) & done:
        return option
    return msgspec.structs.replace(option, after=tuple(name for name in option.after if name not in done))


def _useful(beliefs: Beliefs, options: Sequence[Option]) -> list[Option]:
    return [option for option in options if _worth(beliefs, option) >= PROMISING]


def _with_needed(useful: list[Option], options: Sequence[Option]) -> list[Option]:
    """The useful ones whose needed steps can be done, and these steps. What is needed may need others in turn."""
    by_id = {option.id: option for option in options}
    kept = {option.id: option for option in useful}
    waiting = list(useful)
    while waiting:
        for name in waiting.pop().after:
            if name in by_id and name not in kept:
                kept[name] = by_id[name]
                waiting.append(by_id[name])
    while True:  # a step whose need cannot be met falls out, and with it those that need it
        lost = {one.id for one in kept.values() if not set(one.after) <= set(kept)}
        if not lost:
            return [option for option in options if option.id in kept]
        kept = {name: one for name, one in kept.items() if name not in lost}


def _fits(options: Sequence[Option]) -> bool:
    counts = [sum(one.place is place for one in options) for place in Place]
    return len(options) <= MOST_STEPS and max(counts) <= MOST_IN_A_PLACE


def _window(beliefs: Beliefs, options: Sequence[Option]) -> list[Option]:
    """The steps that promise most for their minutes, with those that they need, as many as can be ordered at once."""
    chosen: list[Option] = []
    for option in sorted(options, key=lambda one: (-_worth(beliefs, one) / one.minutes, one.id)):
        group = [one for one in _with_needed([option], options) if one not in chosen]
        if len(chosen) + len(group) <= _WINDOW and _fits([*chosen, *group]):
            chosen += group
    return chosen


def _ordered(
    beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost], care: Care, named: Named
) -> list[list[Option]]:
    problem = objective_of(beliefs, options, visits, care.prices, care.hand_over, named)
    return [_in_turn(beliefs, [options[number] for number in steps]) for steps in best_visits(problem)]


def _in_turn(beliefs: Beliefs, steps: list[Option]) -> list[Option]:
    """The steps of a visit by chance for a minute, each behind what it needs."""
    waiting = sorted(steps, key=lambda one: (-_worth(beliefs, one) / one.minutes, one.id))
    turn: list[Option] = []
    while waiting:
        names = {one.id for one in waiting}
        following = next(one for one in waiting if not names & set(one.after))
        turn.append(following)
        waiting.remove(following)
    return turn


def _after_all(beliefs: Beliefs, steps: Sequence[Option]) -> Beliefs:
    for step in steps:
        beliefs = _after(beliefs, step)
    return beliefs


def _after(beliefs: Beliefs, option: Option) -> dict[str, float]:
    """What is left of the beliefs when the option did not help and its report named nothing."""
    return {
        cause: chance * (1 - option.fixes.get(cause, 0.0)) * (1 - option.finds.get(cause, 0.0))
        for cause, chance in beliefs.items()
    }


def _visit(steps: Sequence[Option], beliefs: Beliefs, visits: Mapping[Place, VisitCost], named: Named) -> VisitResult:
    results, left = [], beliefs
    for step in steps:
        results.append(_step(step, left, named))
        left = _after(left, step)
    cost = visits[steps[0].place]
    minutes = cost.enter_minutes + cost.test_minutes
    return VisitResult(place=steps[0].place, how=cost.how, minutes=minutes, steps=tuple(results))


def _step(option: Option, beliefs: Beliefs, named: Named) -> StepResult:
    chance = chance_to_fix(beliefs, option)
    helped = {cause: beliefs.get(cause, 0.0) * share for cause, share in {**option.finds, **option.fixes}.items()}
    main = max(helped, key=lambda cause: helped[cause], default="")
    verb = "puts right" if main in option.fixes else "tells whether it is"
    return StepResult(
        id=option.id,
        does=option.does,
        minutes=option.minutes,
        chance=chance,
        stakes=option.stakes,
        needs=option.unknown,
        repair=option.repair,
        leads_to={
            cause: named[cause].says for cause in option.finds if cause in named and named[cause].option is not option
        },
        why=f"{verb} {main} ({beliefs.get(main, 0.0) / (sum(beliefs.values()) or 1.0):.0%})"
        if main
        else "must come before another step",
    )


def _timeline(
    beliefs: Beliefs, order: Sequence[Sequence[Option]], visits: Mapping[Place, VisitCost], named: Named
) -> tuple[float, dict[str, float]]:
    """Expected minutes, and the chance of a working PC by each mark.

    What a visit mended shows at its test start; a cause that it named is gone straight for, and shows after that.
    """
    left, clock, expected = dict(beliefs), 0.0, 0.0
    total = sum(beliefs.values()) or 1.0
    works: list[tuple[float, float]] = []
    for steps in order:
        cost = visits[steps[0].place]
        minutes = cost.enter_minutes + cost.test_minutes + sum(step.minutes for step in steps)
        expected += sum(left.values()) / total * minutes
        clock += minutes
        for cause, mass in left.items():
            unmended, unnamed = mass, 1.0
            for step in steps:
                unmended *= 1 - step.fixes.get(cause, 0.0)
                unnamed *= 1 - step.finds.get(cause, 0.0)
            found = unmended * (1 - unnamed) / total
            works.append((clock, (mass - unmended) / total))
            if found and cause in named:
                way = named[cause].minutes
                expected += found * way
                works.append((clock + way, found * named[cause].option.fixes[cause]))
            left[cause] = unmended * unnamed
    return expected, {str(mark): sum(share for at, share in works if at <= mark) for mark in _MARKS}


def _blocked(beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost]) -> list[BlockedResult]:
    reasons = [(option, option.blocked or visits[option.place].blocked) for option in options]
    rows = [
        BlockedResult(id=option.id, chance=chance_to_fix(beliefs, option), says=reason)
        for option, reason in reasons
        if reason and chance_to_fix(beliefs, option) >= PROMISING
    ]
    return sorted(rows, key=lambda row: -row.chance)
