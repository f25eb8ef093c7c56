"""The linear programme of `bound`, written down row by row."""

from itertools import combinations, pairwise
from math import prod

from mending.model import load_numpy, load_scipy
from mending.plan.objective import Objective

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


def cheapest(programme: Programme) -> float:
    """The least cost; 0 if it is not found."""
    numbers, optimize, sparse = load_numpy(), load_scipy("optimize"), load_scipy("sparse")
    rows, columns, factors = zip(*programme.columns, strict=True)
    shape = (len(programme.bounds), programme.size)
    matrix = sparse.coo_array((factors, (rows, columns)), shape=shape).tocsr()
    limits = [(0.0, 1.0)] * (programme.size - 2) + [(programme.low, programme.high), (0.0, None)]
    found = optimize.linprog(
        programme.cost, A_ub=matrix, b_ub=numbers.array(programme.bounds), bounds=limits
    )
    return float(found.fun) + programme.constant if found.status == 0 else 0.0
