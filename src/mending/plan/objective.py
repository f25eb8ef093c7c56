"""What an order of steps costs, as numbers: the objective of `docs/planning.md`.

A cause is a column: the chance that it is there. A step multiplies each column by the chance that
it leaves the cause unmended and unnamed. The expected minutes of a plan are then, visit by visit,
the minutes of the visit times all that is left in front of it, what causes cost that a report names
on the way, and the price of handing over what is left at the end. Causes that are there together
are columns of their own, by inclusion and exclusion, so that the same products serve for them.
"""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import combinations
from typing import TYPE_CHECKING, TypeAlias

from mending.knowledge import TOGETHER
from mending.model import Place, load_numpy
from mending.plan.options import DirectFix, Named, Option, VisitCost

if TYPE_CHECKING:  # NumPy is loaded when a plan is made
    import numpy
    from numpy.typing import NDArray

    Floats: TypeAlias = NDArray[numpy.float64]
    """Chances, shares, minutes."""
    Sets: TypeAlias = NDArray[numpy.int64]
    """Sets of steps, each a bit mask."""
    Sizes: TypeAlias = NDArray[numpy.int8]
    Flags: TypeAlias = NDArray[numpy.bool_]

Beliefs = Mapping[str, float]
"""Chance by cause; causes that are there together are joined in one name by `TOGETHER`."""
Visits = Sequence[Sequence[int]]
"""Numbers of steps, visit by visit."""


@dataclass(frozen=True)
class Objective:
    """A planning problem: `n` steps, `c` columns: a cause each, behind them those of causes
    together.

    Of causes that are there together something is left while one of them is: 1 - product of (1 -
    u), written out as a sum of products of u over all their subsets, with signs. Each subset is a
    column: its mass carries the sign.

    Attributes:
        mass: chance of each column, shape (c,); rest: of all that no step touches.
        keep: what a step leaves unmended of each cause, shape (n, c), between 0 and 1.
        miss: what its report leaves unnamed, shape (n, c), between 0 and 1.
        alone: how many columns are causes. together: for causes that are there together the columns
            of each on its own, and their chance.
        minutes: of each step with the price of its stake, shape (n,).
        place: number of its place, shape (n,). enter, test: minutes for getting to a place and for
            the test start.
        mends: whether a step changes something, shape (n,): only then a test start follows.
        after: for each step the steps that must come before it, as a bit mask.
        known: what it costs to go straight for a cause that was named in a place, shape (places,
            c), minutes.
        hand_over: minutes.
    """

    mass: "Floats"
    rest: float
    keep: "Floats"
    miss: "Floats"
    alone: int
    together: tuple[tuple[tuple[int, ...], float], ...]
    minutes: "Floats"
    place: tuple[int, ...]
    enter: tuple[float, ...]
    test: tuple[float, ...]
    mends: tuple[bool, ...]
    after: tuple[int, ...]
    known: "Floats"
    hand_over: float

    @property
    def steps(self) -> int:
        """How many steps."""
        return len(self.place)

    @cached_property
    def row_minutes(self) -> list[float]:
        """`minutes` as plain numbers."""
        return [float(minute) for minute in self.minutes]

    @cached_property
    def least(self) -> float:
        """What is left after all steps, the rest included."""
        kept = self.keep.prod(axis=0) * self.miss.prod(axis=0)
        return max(float((self.mass * kept).sum()), 0.0) + self.rest

    def visit_minutes(self, steps: Sequence[int]) -> float:
        """The way there, the steps with their stakes, and the test start if something was
        changed.
        """
        place = self.place[steps[0]]
        test = self.test[place] if any(self.mends[step] for step in steps) else 0.0
        return self.enter[place] + test + sum(self.row_minutes[step] for step in steps)

    def cost(self, visits: Visits) -> float:
        """Expected minutes of a plan that hands over at its end."""
        left, total = self.mass, 0.0
        for steps in visits:
            listed = list(steps)
            keep = self.keep[listed].prod(axis=0)
            unnamed = keep * self.miss[listed].prod(axis=0)
            total += (float(left.sum()) + self.rest) * self.visit_minutes(steps)
            total += float((left * (keep - unnamed)) @ self.known[self.place[listed[0]]])
            left = left * unnamed
        return total + (float(left.sum()) + self.rest) * self.hand_over

    def obeys(self, visits: Visits) -> bool:
        """Whether every step comes behind those that it needs, each visit in one place."""
        done = 0
        for steps in visits:
            done |= sum(1 << step for step in steps)
            if any(
                self.after[step] & ~done or self.place[step] != self.place[steps[0]]
                for step in steps
            ):
                return False
        return True


def objective_of(
    beliefs: Beliefs,
    options: Sequence[Option],
    visits: Mapping[Place, VisitCost],
    prices: Mapping[str, float],
    hand_over: float,
    straight: Named,
) -> Objective:
    """The problem that options pose.

    Args:
        options: steps that can be done; what they need and is not among them counts as done.
        prices: minutes that a stake costs, by its name.
        straight: where causes lead that a report names.
    """
    numbers = load_numpy()
    places = list(dict.fromkeys(option.place for option in options))
    ways = [straight.get(place, {}) for place in places]
    causes, columns = _columns_of(beliefs, options, hand_over, ways)
    at = {option.id: number for number, option in enumerate(options)}
    minutes = [option.minutes + prices.get(option.stakes, 0.0) for option in options]
    return Objective(
        mass=columns.mass,
        rest=max(sum(beliefs.values()) - float(columns.mass.sum()), 0.0),
        keep=columns.keep,
        miss=columns.miss,
        known=columns.known,
        alone=len(causes),
        together=tuple(columns.together),
        minutes=numbers.array(minutes, dtype=float),
        place=tuple(places.index(option.place) for option in options),
        enter=tuple(visits[place].enter_minutes for place in places),
        test=tuple(visits[place].test_minutes for place in places),
        mends=tuple(bool(option.fixes) for option in options),
        after=tuple(
            sum(1 << at[name] for name in option.after if name in at) for option in options
        ),
        hand_over=hand_over,
    )


def _columns_of(
    beliefs: Beliefs,
    options: Sequence[Option],
    hand_over: float,
    straight: Sequence[Mapping[str, DirectFix]],
) -> tuple[list[str], "_Columns"]:
    """The causes that some option touches, and a column for each of them and for each set of them
    that is there together.
    """
    numbers = load_numpy()
    touched = {cause for option in options for cause in (*option.fixes, *option.finds)}
    together = {
        name: name.split(TOGETHER)
        for name, chance in beliefs.items()
        if TOGETHER in name and chance > 0
    }
    together = {name: parts for name, parts in together.items() if set(parts) <= touched}
    believed = {cause for cause, chance in beliefs.items() if chance > 0}
    causes = sorted(touched & believed.union(*together.values()))
    known = [
        [min(way[cause].cost, hand_over) if cause in way else hand_over for cause in causes]
        for way in straight
    ]
    columns = _Columns(
        numbers.array([beliefs.get(cause, 0.0) for cause in causes], dtype=float),
        _left([option.fixes for option in options], causes),
        _left([option.finds for option in options], causes),
        numbers.array(known, dtype=float).reshape(len(straight), len(causes)),
        [],
    )
    for name, parts in together.items():
        columns = columns.with_set([causes.index(part) for part in parts], beliefs[name])
    return causes, columns


def _left(rows: Sequence[Mapping[str, float]], causes: Sequence[str]) -> "Floats":
    """What each row of chances leaves of each cause, shape (rows, causes)."""
    left: Floats = load_numpy().ones((len(rows), len(causes)))
    at = {cause: number for number, cause in enumerate(causes)}
    for number, row in enumerate(rows):
        for cause, chance in row.items():
            if cause in at:
                left[number, at[cause]] = 1 - chance
    return left


@dataclass(frozen=True)
class _Columns:
    """What `Objective` keeps by column, while it grows."""

    mass: "Floats"
    keep: "Floats"
    miss: "Floats"
    known: "Floats"
    together: list[tuple[tuple[int, ...], float]]

    def with_set(self, parts: list[int], chance: float) -> "_Columns":
        """With the columns of causes that are there together. Nothing is named: what is there
        together is known.
        """
        numbers = load_numpy()
        subsets = [
            list(some) for size in range(1, len(parts) + 1) for some in combinations(parts, size)
        ]
        signed = [chance * (-1.0) ** (len(some) + 1) for some in subsets]
        keep = numbers.stack([self.keep[:, some].prod(axis=1) for some in subsets], axis=1)
        return _Columns(
            numbers.append(self.mass, signed),
            numbers.hstack([self.keep, keep]),
            numbers.hstack([self.miss, numbers.ones_like(keep)]),
            numbers.hstack([self.known, numbers.zeros((len(self.known), len(subsets)))]),
            [*self.together, (tuple(parts), chance)],
        )


# What is still believed while a plan runs.


Shares = Mapping[str, float]


@dataclass(frozen=True)
class ResidualBelief:
    """Beliefs, and what steps that did not help have left of them.

    Attributes:
        unmended: by cause, the share that the steps so far leave unmended; 1 where it is not named.
        unnamed: by cause, the share that their reports leave unnamed. Causes that are there
            together are known already.
    """

    beliefs: Beliefs
    unmended: Shares = field(default_factory=dict)
    unnamed: Shares = field(default_factory=dict)

    def after(self, *options: Option) -> "ResidualBelief":
        """When these did not help, and their reports named nothing."""
        unmended, unnamed = dict(self.unmended), dict(self.unnamed)
        for option in options:
            for cause, chance in option.fixes.items():
                unmended[cause] = unmended.get(cause, 1.0) * (1.0 - chance)
            for cause, chance in option.finds.items():
                unnamed[cause] = unnamed.get(cause, 1.0) * (1.0 - chance)
        return ResidualBelief(self.beliefs, unmended, unnamed)

    def of(self, name: str) -> float:
        """Chance of one belief that it is still there, and nothing named it."""
        chance = self.beliefs[name]
        if TOGETHER not in name:
            return chance * self.unmended.get(name, 1.0) * self.unnamed.get(name, 1.0)
        mended = 1.0
        for part in name.split(TOGETHER):
            mended *= 1.0 - self.unmended.get(part, 1.0)
        return chance * (1.0 - mended)

    @cached_property
    def total(self) -> float:
        """Chance that the PC does not start yet, and nothing was named."""
        return sum(self.of(name) for name in self.beliefs)

    def fixed_by(self, options: Iterable[Option]) -> float:
        """Chance that these steps make the PC start, of all that was believed at first."""
        then = self.after(*options)
        return sum(
            self.of(name) - ResidualBelief(self.beliefs, then.unmended, self.unnamed).of(name)
            for name in self.beliefs
        )

    @cached_property
    def there(self) -> dict[str, float]:
        """Chance of each cause that it is there now, alone or together with others."""
        found: dict[str, float] = {}
        for name, chance in self.beliefs.items():
            parts = name.split(TOGETHER)
            for part in parts:
                share = self.of(name) if len(parts) == 1 else chance * self.unmended.get(part, 1.0)
                found[part] = found.get(part, 0.0) + share
        return found

    def worth(self, option: Option) -> float:
        """Chance to mend or to name something that is there, whichever is larger, as a share of
        what is left.
        """
        there, total = self.there, self.total or 1.0
        fixes = sum(there.get(cause, 0.0) * chance for cause, chance in option.fixes.items())
        finds = sum(
            self.of(cause) * chance
            for cause, chance in option.finds.items()
            if cause in self.beliefs
        )
        return max(fixes, finds) / total
