"""What an order of steps costs, as numbers: the objective of `docs/planning.md`."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from mending.model import Place, load_numpy
from mending.plan.options import Option, VisitCost

Beliefs = Mapping[str, float]
Visits = Sequence[Sequence[int]]
"""Numbers of steps, visit by visit."""


@dataclass(frozen=True)
class Objective:
    """A planning problem: `n` steps, `c` causes.

    Attributes:
        mass: chance of each cause, shape (c,); rest: of all that no step touches.
        keep: what a step leaves unmended of each cause, shape (n, c), between 0 and 1.
        miss: what its report leaves unnamed, shape (n, c), between 0 and 1.
        minutes: of each step with the price of its stake, shape (n,).
        place: number of its place, shape (n,). visit: minutes for getting to a place and the test start, by number.
        after: for each step the steps that must come before it, as a bit mask.
        known: what it costs to go straight for a cause that was named, shape (c,), minutes.
        hand_over: minutes.
    """

    mass: Any
    rest: float
    keep: Any
    miss: Any
    minutes: Any
    place: tuple[int, ...]
    visit: tuple[float, ...]
    after: tuple[int, ...]
    known: Any
    hand_over: float

    @property
    def steps(self) -> int:
        """How many steps."""
        return len(self.place)

    def cost(self, visits: Visits) -> float:
        """Expected minutes of a plan that hands over at its end."""
        numbers = load_numpy()
        left, total, gone = self.mass, 0.0, 0.0
        for steps in visits:
            listed = list(steps)
            whole = float(left.sum()) + self.rest
            total += whole * (self.visit[self.place[listed[0]]] + float(self.minutes[listed].sum()))
            unmended = left * numbers.prod(self.keep[listed], axis=0)
            unnamed = unmended * numbers.prod(self.miss[listed], axis=0)
            gone += float(((unmended - unnamed) * self.known).sum())
            left = unnamed
        return total + gone + (float(left.sum()) + self.rest) * self.hand_over


@dataclass(frozen=True)
class Straight:
    """Where a cause leads that a report names: the step, what it needs first, minutes with the ways, cost in all."""

    option: Option
    needed: tuple[Option, ...]
    minutes: float
    cost: float

    @property
    def says(self) -> str:
        """The steps in their order."""
        return ", then ".join(one.id for one in (*self.needed, self.option))


def straight_for(
    options: Sequence[Option], visits: Mapping[Place, VisitCost], prices: Mapping[str, float], hand_over: float
) -> dict[str, Straight]:
    """For each cause the step to go straight for, behind all that it needs; none where handing over costs less.

    Args:
        options: steps that can be done. prices, hand_over: as of `objective_of`.
    """
    by_id = {option.id: option for option in options}
    best: dict[str, Straight] = {}
    for option in options:
        needed = _needed(option, by_id)
        if needed is None:
            continue
        group = [*needed, option]
        ways = sum(visits[place].enter_minutes + visits[place].test_minutes for place in {one.place for one in group})
        minutes = ways + sum(one.minutes for one in group)
        stakes = sum(prices.get(one.stakes, 0.0) for one in group)
        for cause, chance in option.fixes.items():
            cost = minutes + stakes + (1 - chance) * hand_over
            if cost < (best[cause].cost if cause in best else hand_over):
                best[cause] = Straight(option, needed, minutes, cost)
    return best


def _needed(option: Option, by_id: Mapping[str, Option]) -> tuple[Option, ...] | None:
    """All that a step needs, what is needed first in front; None where some of it cannot be done."""
    found: list[Option] = []
    waiting = list(option.after)
    while waiting:
        name = waiting.pop()
        if name not in by_id:
            return None
        one = by_id[name]
        if one not in found:
            found.insert(0, one)
            waiting += one.after
    return tuple(found)


def objective_of(
    beliefs: Beliefs, options: Sequence[Option], visits: Mapping[Place, VisitCost], prices: Mapping[str, float],
    hand_over: float, straight: Mapping[str, Straight],
) -> Objective:  # fmt: skip
    """The problem that options pose.

    Args:
        options: steps that can be done; what they need and is not among them counts as done.
        prices: minutes that a stake costs, by its name.
        straight: where causes lead that a report names.
    """
    numbers = load_numpy()
    touched = {cause for option in options for cause in (*option.fixes, *option.finds)}
    causes = sorted(cause for cause, chance in beliefs.items() if chance > 0 and cause in touched)
    places = list(dict.fromkeys(option.place for option in options))
    at = {option.id: number for number, option in enumerate(options)}
    minutes = numbers.array([option.minutes + prices.get(option.stakes, 0.0) for option in options], dtype=float)
    keep = numbers.array([[1 - option.fixes.get(cause, 0.0) for cause in causes] for option in options])
    miss = numbers.array([[1 - option.finds.get(cause, 0.0) for cause in causes] for option in options])
    visit = tuple(visits[place].enter_minutes + visits[place].test_minutes for place in places)
    place = tuple(places.index(option.place) for option in options)
    shape = (len(options), len(causes))
    known = numbers.array([straight[cause].cost if cause in straight else hand_over for cause in causes], dtype=float)
    mass = numbers.array([beliefs[cause] for cause in causes], dtype=float)
    return Objective(
        mass=mass, rest=max(sum(beliefs.values()) - float(mass.sum()), 0.0), keep=keep.reshape(shape),
        miss=miss.reshape(shape), minutes=minutes, place=place, visit=visit,
        after=tuple(sum(1 << at[name] for name in option.after if name in at) for option in options), known=known,
        hand_over=hand_over,
    )  # fmt: skip
