"""The plan: the order of visits that costs least, as `docs/planning.md` counts it."""

from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING

import msgspec

from mending.knowledge import Pack
from mending.model import Place, Risk, UsageError, load_numpy
from mending.plan.objective import Beliefs, Objective, ResidualBelief, objective_of
from mending.plan.options import Named, Option, VisitCost, direct_fix_for, needed_by
from mending.plan.proof import MOST_IN_A_PLACE, MOST_STEPS, best_visits, lower_bound
from mending.plan.results import (
    BlockedResult,
    DearerResult,
    PlanResult,
    ResortResult,
    ResortStep,
    VisitResult,
    curve_of,
    expected_of,
    marks_of,
    visits_of,
    ways,
)

# A plan made better by moving one thing at a time, where there are too many steps for all orders.
#
# Local search: of all plans that differ by one move the cheapest is taken, until no move helps.
# Each move is cheap to judge, because the objective falls apart at any point of the order: what the
# visits before it cost, what is left of each cause there, and what the visits behind it cost for
# each unit of what is left (`_Line` keeps all three). A visit put in at a point needs these three
# alone, and not the whole order again. It may end in a plan that only two moves at once would
# better; how far from the best that is at most, `lower_bound` says.


if TYPE_CHECKING:
    from mending.plan.objective import Floats

Order = list[list[int]]
_ROUNDS = 80
"""Moves at most, far more than were ever seen; each makes the plan cheaper, so the last is no worse
than the first.
"""
_LEAST = 1e-7
"""Minutes that a move must save."""


def improved(problem: Objective, order: Order, rounds: int = _ROUNDS) -> Order:
    """The order after the best single moves, until none helps: a step added, left out or put
    elsewhere, a visit moved, or two of one place made one.
    """
    best = problem.cost(order)
    for _ in range(rounds):
        found = _best(problem, best, _Line(problem, order).inserted())
        found = found or _best(problem, best, _replaced(problem, order))
        found = found or _best(problem, best, _rearranged(problem, order))
        if found is None:
            return order
        order, best = found, problem.cost(found)
    return order


def _best(problem: Objective, best: float, moves: Iterator[tuple[float, Order]]) -> Order | None:
    """The cheapest of the moves that cost less and keep to what must come before what."""
    better = sorted((move for move in moves if move[0] < best - _LEAST), key=lambda move: move[0])
    return next((order for _, order in better if problem.obeys(order)), None)


class _Line:
    """An order with what is left before each visit, and what the visits from there on cost a unit
    of what is left.
    """

    def __init__(self, problem: Objective, order: Order) -> None:
        numbers = load_numpy()
        self.problem, self.order = problem, order
        self.keep = [problem.keep[visit].prod(axis=0) for visit in order]
        self.unnamed = [
            keep * problem.miss[visit].prod(axis=0)
            for keep, visit in zip(self.keep, order, strict=True)
        ]
        self.minutes = [problem.visit_minutes(visit) for visit in order]
        self.known = [problem.known[problem.place[visit[0]]] for visit in order]
        self.left, self.paid = [problem.mass], [0.0]
        rows = list(zip(self.keep, self.unnamed, self.minutes, self.known, strict=True))
        for keep, unnamed, minutes, known in rows:
            left = self.left[-1]
            named = float((left * (keep - unnamed)) @ known)
            self.paid.append(self.paid[-1] + (float(left.sum()) + problem.rest) * minutes + named)
            self.left.append(left * unnamed)
        price, rest = numbers.full(len(problem.mass), problem.hand_over), problem.hand_over
        self.price, self.rest = [price], [rest]
        for keep, unnamed, minutes, known in reversed(rows):
            price, rest = (
                minutes + (keep - unnamed) * known + unnamed * price,
                rest + minutes,
            )
            self.price.append(price)
            self.rest.append(rest)
        self.price.reverse()
        self.rest.reverse()

    def inserted(self, only: int | None = None) -> Iterator[tuple[float, Order]]:
        """Steps that are not planned, put in at every point; one that needs others brings them
        along.
        """
        problem, order = self.problem, self.order
        planned = sum(1 << step for visit in order for step in visit)
        steps = [
            step
            for step in range(problem.steps)
            if not planned >> step & 1 and only in (None, step)
        ]
        for step in [step for step in steps if problem.after[step] & ~planned]:
            yield from ((problem.cost(moved), moved) for moved in _brought(problem, order, step))
        ready = [step for step in steps if not problem.after[step] & ~planned]
        if not ready:
            return
        for at in range(len(order) + 1):
            minutes = [problem.visit_minutes([step]) for step in ready]
            known = problem.known[[problem.place[step] for step in ready]]
            costs = self._costs(at, at, problem.keep[ready], problem.miss[ready], minutes, known)
            yield from (
                (float(cost), [*order[:at], [step], *order[at:]])
                for cost, step in zip(costs, ready, strict=True)
            )
        for at, visit in enumerate(order):
            here = [step for step in ready if problem.place[step] == problem.place[visit[0]]]
            if here:
                keep, miss = (
                    self.keep[at] * problem.keep[here],
                    problem.miss[visit].prod(axis=0) * problem.miss[here],
                )
                minutes = [problem.visit_minutes([*visit, step]) for step in here]
                costs = self._costs(at, at + 1, keep, miss, minutes, self.known[at])
                yield from (
                    (float(cost), [*order[:at], [*visit, step], *order[at + 1 :]])
                    for cost, step in zip(costs, here, strict=True)
                )

    def _costs(
        self,
        before: int,
        behind: int,
        keep: "Floats",
        miss: "Floats",
        minutes: list[float],
        known: "Floats",
    ) -> "Floats":
        """Cost in all with a visit between two points, for each row of what it keeps and misses.

        Args:
            known: as of `Objective`, for the places of the visits, or for the one that all have.
        """
        numbers = load_numpy()
        left, problem = self.left[before], self.problem
        unnamed = keep * miss
        whole = float(left.sum()) + problem.rest
        named = ((keep - unnamed) * known) @ left
        then = unnamed @ (left * self.price[behind]) + problem.rest * self.rest[behind]
        cost: Floats = self.paid[before] + whole * numbers.array(minutes) + named + then
        return cost


def _replaced(problem: Objective, order: Order) -> Iterator[tuple[float, Order]]:
    """Each planned step left out, or put elsewhere."""
    for step in [step for visit in order for step in visit]:
        others = [
            kept for visit in order if (kept := [number for number in visit if number != step])
        ]
        yield problem.cost(others), others
        yield from _Line(problem, others).inserted(only=step)


def _rearranged(problem: Objective, order: Order) -> Iterator[tuple[float, Order]]:
    """Each visit left out, put elsewhere, or joined with another of its place."""
    for number, visit in enumerate(order):
        others = order[:number] + order[number + 1 :]
        moved = [
            others,
            *([*others[:at], visit, *others[at:]] for at in range(len(others) + 1) if at != number),
        ]
        moved += [
            [*others[:at], [*others[at], *visit], *others[at + 1 :]]
            for at in range(len(others))
            if problem.place[others[at][0]] == problem.place[visit[0]]
        ]
        yield from ((problem.cost(order), order) for order in moved)


def _brought(problem: Objective, order: Order, step: int) -> Iterator[Order]:
    """The step with those that it needs and that are not planned, in visits of their own, at every
    point.
    """
    planned = {number for visit in order for number in visit}
    visits: Order = []
    for number in (number for number in _needed(problem, step) if number not in planned):
        if visits and problem.place[visits[-1][0]] == problem.place[number]:
            visits[-1].append(number)
        else:
            visits.append([number])
    for at in range(len(order) + 1):
        yield order[:at] + visits + order[at:]
        if at < len(order) and problem.place[order[at][0]] == problem.place[visits[-1][0]]:
            yield order[:at] + visits[:-1] + [order[at] + visits[-1]] + order[at + 1 :]


def _needed(problem: Objective, step: int) -> list[int]:
    """What must come before a step, and the step, each behind what it needs."""
    found: list[int] = []

    def go(number: int) -> None:
        if number not in found:
            for other in range(problem.steps):
                if problem.after[number] >> other & 1:
                    go(other)
            found.append(number)

    go(step)
    return found


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


# What is left where a plan ends: steps that cost more than handing over does, and the ladder of
# last resorts. Nothing that can still help is left unsaid.


_BEYOND_LEAST = 0.001
"""Chance from which a step counts as one that can still help."""


def dearer_steps(
    beliefs: Beliefs,
    planned: Sequence[VisitResult],
    options: Sequence[Option],
    visits: Mapping[Place, VisitCost],
    prices: Mapping[str, float],
) -> tuple[DearerResult, ...]:
    """The steps that can be done, may help and are not planned, the best chance for a minute first,
    where what is put at stake counts its price in minutes. Chances are those after everything
    planned did not help.
    """
    able = {option.id: option for option in options if not (option.blocked or option.once_told)}
    in_plan = {step.id for visit in planned for step in visit.steps}
    tried = ResidualBelief(beliefs).after(*(able[name] for name in in_plan if name in able))
    left = ResidualBelief(beliefs, tried.unmended)
    found = []
    for option in able.values():
        needed = needed_by(option, able)
        if option.id in in_plan or needed is None or not option.fixes:
            continue
        steps = [*(each for each in needed if each.id not in in_plan), option]
        chance = left.fixed_by(steps)
        if chance >= _BEYOND_LEAST:
            found.append(_dearer(option, steps, chance, left, visits))

    def rank(row: DearerResult) -> tuple[float, str]:
        return -row.chance / (row.minutes + prices.get(row.stakes, 0.0)), row.id

    return tuple(sorted(found, key=rank))


def _dearer(
    option: Option,
    steps: list[Option],
    chance: float,
    left: ResidualBelief,
    visits: Mapping[Place, VisitCost],
) -> DearerResult:
    order: list[list[Option]] = []
    for step in steps:
        if not order or order[-1][0].place is not step.place:
            order.append([])
        order[-1].append(step)
    minutes = sum(ways(each, visits) + sum(step.minutes for step in each) for each in order)
    straight: Named = {place: {} for place in Place}
    return DearerResult(
        id=option.id,
        does=option.does,
        chance=chance,
        minutes=minutes,
        stakes=option.stakes,
        visits=visits_of(left.beliefs, order, visits, straight),
    )


def resorts_of(
    pack: Pack,
    options: Sequence[Option],
    planned: Sequence[VisitResult],
    dearer: Sequence[DearerResult],
    tried: Mapping[str, bool],
) -> tuple[ResortResult, ...]:
    """The ladder of last resorts, in order, with what each of their steps is at now."""
    by_id = {option.id: option for option in options}
    steps_planned = {step.id: step for visit in planned for step in visit.steps}
    beyond = {row.id: row for row in dearer}

    def told(name: str) -> ResortStep | None:
        if name in steps_planned:
            step = steps_planned[name]
            return ResortStep(
                id=name, state="planned", chance=step.chance, minutes=step.minutes, says=""
            )
        if name in beyond:
            row = beyond[name]
            return ResortStep(
                id=name, state="dearer", chance=row.chance, minutes=row.minutes, says=""
            )
        if tried.get(name, False):
            return ResortStep(id=name, state="tried", chance=0.0, minutes=0.0, says="")
        option = by_id.get(name)
        if option is None:
            return None  # not for this kind of PC
        state = "blocked" if option.blocked else "open"
        return ResortStep(
            id=name, state=state, chance=0.0, minutes=option.minutes, says=option.blocked
        )

    found = []
    for resort in pack.resorts.values():
        steps = tuple(step for name in resort.steps if (step := told(name)) is not None)
        if steps or not resort.steps:
            found.append(ResortResult(id=resort.id, says=resort.says, steps=steps))
    return tuple(found)


# Why a step stands where it does: what the plan would cost with it first, and last.


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
    before = _why_needed(by_id, step)
    behind = {name for name in names if step in _why_needed(by_id, name)}
    return WhyResult(
        step=step,
        planned=_cost(problem, names, order),
        first=_cost(problem, names, [*_by_place(by_id, names, before), *_left(order, before)]),
        last=_cost(problem, names, [*_left(order, behind), *_by_place(by_id, names, behind)]),
        without=_cost(problem, names, _left(order, behind)),
    )


def _why_needed(by_id: Mapping[str, Option], step: str) -> set[str]:
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
