"""The order of visits: the most chance to fix per minute, one visit after the other. A simple rule for now.

A visit is the steps of one place that together have the best (chance to fix + share for what they find out) per
minute, the way there and the test start counted in, and whatever else there is better done now than after another way
there. Steps that put personal files at stake wait until nothing promising without that stake is left, unless the person
asks for speed.
"""

from collections.abc import Mapping, Sequence

from mending.model import Place, Stakes
from mending.plan.options import Option, VisitCost
from mending.plan.results import BlockedResult, PlanResult, StepResult, VisitResult

Beliefs = Mapping[str, float]
PROMISING = 0.01
"""A step below this chance is not worth planning."""
FINDING_SHARE = 0.25
"""What a step that only names the cause counts, against one that fixes it."""
_MARKS = (30, 60, 120)
_MOST_VISITS = 40
"""More than the pack has steps, so that the last resorts are planned too."""


def make_plan(
    beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost], speed: bool = False
) -> PlanResult:
    """Order the options.

    Args:
        beliefs: chance by cause; causes that no option knows count as never fixed.
        speed: personal files may be risked early.
    """
    left = dict(beliefs)
    open_options = [option for option in options if not option.blocked and not visits[option.place].blocked]
    done: set[str] = set()
    planned: list[VisitResult] = []
    while len(planned) < _MOST_VISITS:
        allowed = _allowed(left, open_options, done, speed)
        choice = _extended(left, _best_visit(left, allowed, visits), allowed, visits)
        if not choice:
            break
        planned.append(_visit(choice, left, visits))
        for option in choice:
            left = _after(left, option)
            done.add(option.id)
    minutes, chances = _timeline(planned)
    return PlanResult(
        visits=tuple(planned),
        blocked=tuple(_blocked(beliefs, options, visits)),
        expected_minutes=minutes,
        chance_by=chances,
        exact=False,
        gap=None,
    )


def chance_to_fix(beliefs: Beliefs, option: Option) -> float:
    """Chance that the PC starts because of this option, as a share of what is still believed."""
    total = sum(beliefs.values())
    return sum(beliefs.get(cause, 0.0) * chance for cause, chance in option.fixes.items()) / total if total else 0.0


def _worth(beliefs: Beliefs, option: Option) -> float:
    total = sum(beliefs.values()) or 1.0
    finds = sum(beliefs.get(cause, 0.0) * chance for cause, chance in option.finds.items()) / total
    return chance_to_fix(beliefs, option) + FINDING_SHARE * finds


def _allowed(beliefs: Beliefs, options: Sequence[Option], done: set[str], speed: bool) -> list[Option]:
    ready = [
        option
        for option in options
        if option.id not in done and all(name in done for name in option.after) and _worth(beliefs, option) >= PROMISING
    ]
    safe = [option for option in ready if option.stakes is not Stakes.FILES]
    if safe and not speed:
        return safe
    waiting = [one for one in options if one.id not in done and one.stakes is Stakes.FILES and one not in ready]
    needed = {name for option in waiting if _worth(beliefs, option) >= PROMISING for name in option.after}
    return ready or [option for option in options if option.id in needed and option.id not in done]


def _best_visit(beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost]) -> list[Option]:
    best: list[Option] = []
    best_rate = -1.0
    for place in {option.place: None for option in options}:
        here = sorted(
            (one for one in options if one.place is place),
            key=lambda one: (-_worth(beliefs, one) / one.minutes, one.id),
        )
        for count in range(1, len(here) + 1):
            rate = _rate(beliefs, here[:count], visits[place])
            if rate > best_rate:
                best, best_rate = here[:count], rate
    return best


def _extended(
    beliefs: Beliefs, visit: list[Option], options: Sequence[Option], visits: Mapping[Place, VisitCost]
) -> list[Option]:
    """The visit with whatever else is better done now than after another way there: nobody likes to come twice."""
    if not visit:
        return visit
    chosen, left = list(visit), dict(beliefs)
    for step in visit:
        left = _after(left, step)
    others = [option for option in options if option not in visit]
    elsewhere = [option for option in others if option.place is not visit[0].place]
    rate = _rate(left, best, visits[best[0].place]) if (best := _best_visit(left, elsewhere, visits)) else 0.0
    for option in sorted(others, key=lambda one: (-_worth(left, one) / one.minutes, one.id)):
        if option.place is visit[0].place and _worth(left, option) >= max(PROMISING, rate * option.minutes):
            chosen.append(option)
            left = _after(left, option)
    return chosen


def _rate(beliefs: Beliefs, steps: Sequence[Option], cost: VisitCost) -> float:
    left, worth = beliefs, 0.0
    for step in steps:
        worth += (sum(left.values()) / (sum(beliefs.values()) or 1.0)) * _worth(left, step)
        left = _after(left, step)
    return worth / (cost.enter_minutes + cost.test_minutes + sum(step.minutes for step in steps))


def _after(beliefs: Beliefs, option: Option) -> dict[str, float]:
    """What is left of the beliefs when the option did not help."""
    return {cause: chance * (1 - option.fixes.get(cause, 0.0)) for cause, chance in beliefs.items()}


def _visit(steps: Sequence[Option], beliefs: Beliefs, visits: Mapping[Place, VisitCost]) -> VisitResult:
    results, left = [], beliefs
    for step in steps:
        results.append(_step(step, left))
        left = _after(left, step)
    cost = visits[steps[0].place]
    minutes = cost.enter_minutes + cost.test_minutes
    return VisitResult(place=steps[0].place, how=cost.how, minutes=minutes, steps=tuple(results))


def _step(option: Option, beliefs: Beliefs) -> StepResult:
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
        why=f"{verb} {main} ({beliefs.get(main, 0.0) / (sum(beliefs.values()) or 1.0):.0%})"
        if main
        else "must come before another step",
    )


def _timeline(visits: Sequence[VisitResult]) -> tuple[float, dict[str, float]]:
    """Expected minutes, and the chance of a working PC by each mark; it shows at the test start of each visit."""
    clock, expected, working = 0.0, 0.0, 0.0
    by = {str(mark): 0.0 for mark in _MARKS}
    for visit in visits:
        minutes = visit.minutes + sum(step.minutes for step in visit.steps)
        expected += (1 - working) * minutes
        clock += minutes
        for step in visit.steps:
            working += (1 - working) * step.chance
        by |= {str(mark): working for mark in _MARKS if clock <= mark}
    return expected, by


def _blocked(beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost]) -> list[BlockedResult]:
    reasons = [(option, option.blocked or visits[option.place].blocked) for option in options]
    rows = [
        BlockedResult(id=option.id, chance=chance_to_fix(beliefs, option), says=reason)
        for option, reason in reasons
        if reason and chance_to_fix(beliefs, option) >= PROMISING
    ]
    return sorted(rows, key=lambda row: -row.chance)
