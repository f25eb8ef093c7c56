"""A plan made better by moving one thing at a time, where there are too many steps for all orders.

Local search: of all plans that differ by one move the cheapest is taken, until no move helps. Each
move is cheap to judge, because the objective falls apart at any point of the order: what the visits
before it cost, what is left of each cause there, and what the visits behind it cost for each unit
of what is left (`_Line` keeps all three). A visit put in at a point needs these three alone, and
not the whole order again. It may end in a plan that only two moves at once would better; how far
from the best that is at most, `lower_bound` says.
"""

from collections.abc import Iterator
from typing import TYPE_CHECKING

from mending.model import load_numpy
from mending.plan.objective import Objective

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
