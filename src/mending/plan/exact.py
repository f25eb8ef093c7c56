"""The best order of steps, proved: dynamic programming backwards over all sets of done steps
(`docs/planning.md`).

What a plan still costs hangs on which steps are done, not on their order, for what is left of each
cause is a product over the done steps. So `cost(all done)` is known (hand over), and

    cost(done) = min over the next visit of  left(done) * minutes(visit) + cost(done + visit)

gives the others, larger sets first. A next visit is any group of open steps of one place whose
needs are done. There are 2^n sets, which is why n is bounded; Held and Karp (1962) order tours in
the same way.
"""

from collections.abc import Sequence
from typing import TYPE_CHECKING

from mending.model import load_numpy
from mending.plan.objective import Objective

if TYPE_CHECKING:
    from mending.plan.objective import Flags, Floats, Sets, Sizes

MOST_STEPS, MOST_IN_A_PLACE = 18, 6
_LESS = 1e-12
"""A cost is lower only by more than this."""
_AT_ONCE = 1 << 14
"""Sets times groups that are worked out in one table."""


def best_visits(problem: Objective) -> list[list[int]]:
    """The visits of the plan that costs least, in order; empty where handing over at once does.

    Raises:
        ValueError: more steps than `MOST_STEPS`.
    """
    if problem.steps > MOST_STEPS:
        raise ValueError(f"{problem.steps} steps are too many for an exact plan")
    choice = _choices(problem)
    done, visits = 0, []
    while chosen := int(choice[done]):
        visits.append([step for step in range(problem.steps) if chosen >> step & 1])
        done |= chosen
    return visits


def _choices(problem: Objective) -> "Sets":
    """For every set of done steps the steps of the best next visit, both as bit masks; 0 is to hand
    over.
    """
    numbers = load_numpy()
    count = 1 << problem.steps
    left = _masses(problem)
    whole = left.sum(axis=1) + problem.rest
    cost = whole * problem.hand_over
    choice: Sets = numbers.zeros(count, dtype=numbers.int64)
    sizes = _sizes(problem.steps)
    groups = _groups(problem)
    named = _named(problem, [group for group, _ in groups])
    if count * len(groups) <= _AT_ONCE:
        _fill_at_once(problem, groups, sizes, (left, whole, named), cost, choice)
        return choice
    for size in range(problem.steps - 1, -1, -1):
        sets = numbers.flatnonzero(sizes == size)
        best, chosen = cost[sets], choice[sets]
        straight = left[sets] @ named if named is not None else None
        for number, (group, minutes) in enumerate(groups):
            free = numbers.flatnonzero((sets & group) == 0)
            free = free[_allowed(problem, group, sets[free])]
            if not len(free):
                continue
            there = sets[free]
            total = whole[there] * minutes + cost[there | group]
            if straight is not None:
                total += straight[free, number]
            better = total < best[free] - _LESS
            best[free[better]] = total[better]
            chosen[free[better]] = group
        cost[sets], choice[sets] = best, chosen
    return choice


def _fill_at_once(
    problem: Objective,
    groups: Sequence[tuple[int, float]],
    sizes: "Sizes",
    worked_out: "tuple[Floats, Floats, Floats | None]",
    cost: "Floats",
    choice: "Sets",
) -> None:
    """The same for few steps: all groups beside all sets in one table, shape (2^n, groups), for
    many small calls take longer than one large one.

    Args:
        worked_out: what is left of each cause and of all, and what being named costs.
        cost, choice: filled in place.
    """
    numbers = load_numpy()
    left, whole, named = worked_out
    masks = numbers.array([group for group, _ in groups], dtype=numbers.int64)
    needed = numbers.array([_needed(problem, group) for group, _ in groups], dtype=numbers.int64)
    minutes = numbers.array([minutes for _, minutes in groups])
    sets = numbers.arange(len(cost), dtype=numbers.int64)[:, None]
    shut = ((sets & masks) != 0) | ((sets & needed) != needed)
    total = whole[:, None] * minutes
    if named is not None:
        total += left @ named
    total[shut] = numbers.inf
    behind = sets | masks
    for size in range(problem.steps - 1, -1, -1):
        here = numbers.flatnonzero(sizes == size)
        totals = total[here] + cost[behind[here]]
        best = totals.argmin(axis=1)
        least = totals[numbers.arange(len(here)), best]
        better = least < cost[here] - _LESS
        cost[here[better]] = least[better]
        choice[here[better]] = masks[best[better]]


def _masses(problem: Objective) -> "Floats":
    """What is left of each cause behind every set of steps, shape (2^n, c)."""
    numbers = load_numpy()
    left: Floats = numbers.empty((1 << problem.steps, len(problem.mass)))
    left[0] = problem.mass
    for step in range(problem.steps):
        size = 1 << step
        left[size : 2 * size] = left[:size] * (problem.keep[step] * problem.miss[step])
    return left


def _sizes(steps: int) -> "Sizes":
    """How many steps are in each set."""
    numbers = load_numpy()
    sizes: Sizes = numbers.zeros(1 << steps, dtype=numbers.int8)
    for step in range(steps):
        sizes[1 << step : 2 << step] = sizes[: 1 << step] + 1
    return sizes


def _groups(problem: Objective) -> list[tuple[int, float]]:
    """Every set of steps that one visit may hold, as a bit mask, and the minutes of the visit."""
    found = []
    for place in range(len(problem.enter)):
        here = [step for step in range(problem.steps) if problem.place[step] == place]
        for bits in range(1, 1 << len(here)):
            steps = [step for number, step in enumerate(here) if bits >> number & 1]
            found.append((sum(1 << step for step in steps), problem.visit_minutes(steps)))
    return found


def _allowed(problem: Objective, group: int, sets: "Sets") -> "Flags":
    """Where all that the steps of a group need is done, or in the group itself."""
    numbers = load_numpy()
    needed = _needed(problem, group)
    done: Flags = (sets & needed) == needed if needed else numbers.ones(len(sets), dtype=bool)
    return done


def _needed(problem: Objective, group: int) -> int:
    """The steps, as a bit mask, that those of a group need beside each other."""
    needed = 0
    for step in range(problem.steps):
        if group >> step & 1:
            needed |= problem.after[step]
    return needed & ~group


def _named(problem: Objective, groups: list[int]) -> "Floats | None":
    """What a unit of each cause pays for being named in a group, shape (c, groups); None where
    nothing names any.
    """
    numbers = load_numpy()
    if bool((problem.miss == 1).all()):
        return None
    columns = []
    for group in groups:
        steps = [step for step in range(problem.steps) if group >> step & 1]
        unmended = numbers.prod(problem.keep[steps], axis=0)
        found = 1 - numbers.prod(problem.miss[steps], axis=0)
        columns.append(unmended * found * problem.known[problem.place[steps[0]]])
    paid: Floats = numbers.stack(columns, axis=1)
    return paid
