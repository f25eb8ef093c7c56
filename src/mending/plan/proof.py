"""The best order of steps, proved: dynamic programming backwards over all sets of done steps
(`docs/planning.md`).

What a plan still costs hangs on which steps are done, not on their order, for what is left of each
cause is a product over the done steps. So `cost(all done)` is known (hand over), and

    cost(done) = min over the next visit of  left(done) * minutes(visit) + cost(done + visit)

gives the others, larger sets first. A next visit is any group of open steps of one place whose
needs are done. There are 2^n sets, which is why n is bounded; Held and Karp (1962) order tours in
the same way.
"""

import heapq
from collections.abc import Sequence
from itertools import combinations, pairwise
from math import prod
from types import ModuleType
from typing import TYPE_CHECKING

from mending.model import load_extra, load_numpy
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


# The linear programme of `bound`, written down row by row.


Term = tuple[int, float]
"""A variable by its number, and its factor."""
_EARLY = 1.4
"""Spans are shorter where more happens: the end of span k of K is at (k / K) to this power."""
_MOST_CUTS = 5
"""Sets A for one cause: the steps that remove most of it, the first, the first two, and so on."""
_PAIRED = 4
"""And each one and each two of so many that remove most."""


class Programme:
    """Rows `terms <= bound` over variables between 0 and 1.

    For each span and for the end: X of each step, Y of each place's way and of its test start, u of
    each cause as a share of it; then the share of each cause that each step removed; then the time
    of the stop and its product with what is left.

    What is handed over after a stop at time T pays T * R less than what is charged to the end of
    the last span. That product is held from below by its convex envelope (McCormick, "Computability
    of global solutions to factorable nonconvex programs", Mathematical Programming 10, 1976,
    section 3).
    """

    def __init__(
        self, problem: Objective, spans: int, low: float, high: float, most: float
    ) -> None:
        self.problem, self.spans, self.low, self.high = problem, spans, low, high
        self.steps, self.places, self.causes = problem.steps, len(problem.enter), problem.alone
        self.columns: list[tuple[int, int, float]] = []
        self.bounds: list[float] = []
        numbers = load_numpy()
        self.removes = (1.0 - problem.keep * problem.miss)[:, : problem.alone]
        block = self.steps + 2 * self.places + self.causes
        self.pairs = [(int(step), int(cause)) for step, cause in numbers.argwhere(self.removes > 0)]
        self.first_pair = block * (self.spans + 1)
        self.block, self.size = block, self.first_pair + len(self.pairs) + 2
        self.cost, self.constant = numbers.zeros(self.size), problem.rest * problem.hand_over
        edges = [high * (span / spans) ** _EARLY for span in range(spans + 1)]
        for span, (begin, end) in enumerate(pairwise(edges)):
            self._span(span, (begin + end) / 2.0)
            self._charge(span, end - begin)
        self._span(spans, None)
        self._charge(spans, problem.hand_over - high)
        self._removed()
        self._stop(most)

    def _left(self, cause: int, span: int) -> int:
        return span * self.block + self.steps + 2 * self.places + cause

    def _row(self, terms: list[Term], bound: float) -> None:
        row = len(self.bounds)
        self.columns += [(row, column, factor) for column, factor in terms if factor]
        self.bounds.append(bound)

    def _span(self, span: int, time: float | None) -> None:
        problem, at = self.problem, span * self.block
        way, test = at + self.steps, at + self.steps + self.places
        if time is not None:
            paid = [(at + step, problem.row_minutes[step]) for step in range(self.steps)]
            paid += [(way + place, problem.enter[place]) for place in range(self.places)]
            self._row(
                [*paid, *((test + place, problem.test[place]) for place in range(self.places))],
                time,
            )
        for step in range(self.steps):
            self._row([(at + step, 1.0), (way + problem.place[step], -1.0)], 0.0)
            if problem.mends[step]:
                self._row([(at + step, 1.0), (test + problem.place[step], -1.0)], 0.0)
            if span:
                self._row([(at - self.block + step, 1.0), (at + step, -1.0)], 0.0)
            for other in range(self.steps):
                if problem.after[step] >> other & 1:
                    self._row([(at + step, 1.0), (at + other, -1.0)], 0.0)
        for cause in range(self.causes):
            self._cuts(cause, span)
            if span:
                self._row(
                    [(self._left(cause, span), 1.0), (self._left(cause, span - 1), -1.0)], 0.0
                )

    def _cuts(self, cause: int, span: int) -> None:
        """What is left of a cause at the least, given the steps done."""
        rows = [
            (float(self.removes[step, cause]), step)
            for step in range(self.steps)
            if self.removes[step, cause] > 0
        ]
        rows.sort(reverse=True)
        sets = {tuple(rows[:count]) for count in range(min(len(rows), _MOST_CUTS))}
        sets |= {
            some
            for size in (1, 2)
            for some in combinations(rows[:_PAIRED], size)
            if size < len(rows)
        }
        for some in sorted(sets):
            kept = prod(1.0 - share for share, _ in some)
            terms = [
                (span * self.block + step, -kept * share)
                for share, step in rows
                if (share, step) not in some
            ]
            self._row([(self._left(cause, span), -1.0), *terms], -kept)

    def _charge(self, span: int, minutes: float) -> None:
        """What is left pays so many minutes. Of causes that are there together, one stands for
        all.
        """
        for cause in range(self.causes):
            self.cost[self._left(cause, span)] += minutes * float(self.problem.mass[cause])
        for parts, mass in self.problem.together:
            self.cost[self._left(parts[0], span)] += minutes * mass

    def _removed(self) -> None:
        """What each step removed of each cause by the end: it was named at its price, and removed
        late.
        """
        problem, end = self.problem, self.spans
        shares: dict[int, list[Term]] = {cause: [] for cause in range(self.causes)}
        for number, (step, cause) in enumerate(self.pairs):
            column, share = self.first_pair + number, float(self.removes[step, cause])
            shares[cause].append((column, -1.0))
            self._row([(column, 1.0), (end * self.block + step, -share)], 0.0)
            place = problem.place[step]
            late = 0.5 * (
                problem.row_minutes[step]
                + problem.enter[place]
                + problem.test[place] * problem.mends[step]
            )
            named = (
                float(problem.keep[step, cause]) * (1.0 - float(problem.miss[step, cause])) / share
            )
            self.cost[column] += float(problem.mass[cause]) * (
                named * float(problem.known[place, cause]) + late
            )
        for cause, terms in shares.items():
            self._row([*terms, (self._left(cause, end), -1.0)], -1.0)
            self._row([(column, 1.0) for column, _ in terms] + [(self._left(cause, end), 1.0)], 1.0)

    def _stop(self, most: float) -> None:
        """The time T of the stop, and at least T times what is left then. Args: most: of what can
        be left then.
        """
        problem, end = self.problem, self.spans * self.block
        stop, product = self.size - 2, self.size - 1
        way = end + self.steps
        paid = [(end + step, problem.row_minutes[step]) for step in range(self.steps)]
        paid += [(way + place, problem.enter[place]) for place in range(self.places)]
        paid += [(way + self.places + place, problem.test[place]) for place in range(self.places)]
        self._row([*paid, (stop, -1.0)], 0.0)
        left = [
            (self._left(cause, self.spans), float(problem.mass[cause]))
            for cause in range(self.causes)
        ]
        left += [(self._left(parts[0], self.spans), mass) for parts, mass in problem.together]
        # T >= low and R >= least give T R >= low R + least T - low least; T <= high and R <= most
        # the other one
        for time, bound in ((self.low, problem.least), (self.high, most)):
            over = [(column, time * mass) for column, mass in left]
            self._row([*over, (stop, bound), (product, -1.0)], time * bound - time * problem.rest)
        self.cost[product] += 1.0


def _scipy(part: str) -> ModuleType:
    return load_extra(f"scipy.{part}", "proof")


def cheapest(programme: Programme) -> float:
    """The least cost; 0 if it is not found.

    Raises:
        UsageError: the extra `proof` is not installed.
    """
    numbers, optimize, sparse = load_numpy(), _scipy("optimize"), _scipy("sparse")
    rows, columns, factors = zip(*programme.columns, strict=True)
    shape = (len(programme.bounds), programme.size)
    matrix = sparse.coo_array((factors, (rows, columns)), shape=shape).tocsr()
    limits = [(0.0, 1.0)] * (programme.size - 2) + [(programme.low, programme.high), (0.0, None)]
    found = optimize.linprog(
        programme.cost, A_ub=matrix, b_ub=numbers.array(programme.bounds), bounds=limits
    )
    return float(found.fun) + programme.constant if found.status == 0 else 0.0


# What no plan can cost less than: a linear programme over shares of steps done by points in time.
#
# Time is counted in the minutes of the objective, stakes among them, and cut into spans. Let X(s,k)
# be the mean over span k of how much of step s is done, a visit being done evenly, and u(c,k) what
# is left of cause c. Every plan meets:
#
# - the minutes of the steps done, and one way to each place they are in, are no more than the time;
# - nothing is undone, and what a step needs goes before it;
# - u(c,k) >= p(c) * [r(A) - sum over s outside A of r(A) * e(s,c) * X(s,k)] for every set A of
#   steps, where e is the share that a step removes and r(A) what A leaves: removal is submodular
#   (Nemhauser, Wolsey and Fisher, "An analysis of approximations for maximizing submodular set
#   functions", Mathematical Programming 14, 1978, proposition 2.2).
#
# What is left falls only at the end of a visit, not evenly: each removed share pays half the
# minutes of its step, way and test start more (mean busy times; Goemans, Queyranne, Schulz,
# Skutella and Wang, "Single machine scheduling with release dates", SIAM Journal on Discrete
# Mathematics 15, 2002, section 2). Plans are told apart by when they stop, and the span of stopping
# times that bounds least is halved some times.


_SPANS, _FEW_SPANS = 10, 7
"""Spans of time in one programme; few where it is large."""
_HALVINGS = 2
"""How often the span of stopping times that bounds least is halved; never where the programmes are
large.
"""
_LARGE = 45
"""Steps from which the programmes are large."""


def lower_bound(problem: Objective, reached: float, minutes: float) -> float:
    """Minutes that no plan undercuts; 0 where nothing can be shown.

    Args:
        reached: cost of a plan that is known. minutes: how long it runs.
    """
    whole = float(problem.mass.sum()) + problem.rest
    last = sum(
        problem.visit_minutes([step]) for step in range(problem.steps)
    )  # no plan runs longer
    least = problem.least
    if (
        least * (last + problem.hand_over) > reached
    ):  # a plan that runs longer than this costs more than the known one
        last = reached / least - problem.hand_over
    if last <= 0:
        return reached
    tops = sorted(
        {
            0.0,
            *(top for top in (0.6 * minutes, 1.2 * minutes, 2.0 * minutes) if top < 0.9 * last),
            last,
        }
    )
    waiting = [(_span(problem, reached, low, high), low, high) for low, high in pairwise(tops)]
    heapq.heapify(waiting)
    for _ in range(_HALVINGS if problem.steps < _LARGE else 0):
        bound, low, high = waiting[0]
        if bound >= reached - 1e-6:
            break
        heapq.heappop(waiting)
        for left, right in ((low, (low + high) / 2.0), ((low + high) / 2.0, high)):
            heapq.heappush(waiting, (max(bound, _span(problem, reached, left, right)), left, right))
    return max(min(waiting[0][0], whole * problem.hand_over, reached), 0.0)


def _span(problem: Objective, reached: float, low: float, high: float) -> float:
    """The least cost of plans that stop between two times and may undercut the one that is
    known.
    """
    most = reached / (low + problem.hand_over)
    return cheapest(
        Programme(problem, _SPANS if problem.steps < _LARGE else _FEW_SPANS, low, high, most)
    )
