"""Where a cause leads that a report names: the step that mends it, behind all that this needs. Who
is told it in a place is there already, and what can be mended there costs no way.
"""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import TypeAlias

from mending.model import Place
from mending.plan.options import Option, VisitCost


@dataclass(frozen=True)
class DirectFix:
    """The step to go straight for, what it needs first, minutes with the ways, and the cost in
    all.
    """

    option: Option
    needed: tuple[Option, ...]
    minutes: float
    cost: float

    def says_after(self, done: Option) -> str:
        """The steps in their order, each once, without one that was just done; empty where nothing
        is left.
        """
        steps = dict.fromkeys(option.id for option in (*self.needed, self.option))
        return ", then ".join(step for step in steps if step != done.id)


Named: TypeAlias = Mapping[Place, Mapping[str, DirectFix]]
"""By the place in which a report names it, where a cause leads."""


def direct_fix_for(
    options: Sequence[Option],
    visits: Mapping[Place, VisitCost],
    prices: Mapping[str, float],
    hand_over: float,
) -> Named:
    """For each place where something can be named, and each cause, the step to go straight for from
    there, behind all that it needs; none where handing over costs less.

    Args:
        options: steps that can be done. prices, hand_over: minutes, as of `objective_of`.
    """
    ways = _ways(options, visits, prices)
    places = dict.fromkeys(option.place for option in options)
    return {here: _from(here, ways, visits, hand_over) for here in places}


@dataclass(frozen=True)
class _Way:
    """A step behind all that it needs: minutes with the ways to these places, and of the stakes."""

    option: Option
    needed: tuple[Option, ...]
    places: tuple[Place, ...]
    minutes: float
    stakes: float


def _ways(
    options: Sequence[Option], visits: Mapping[Place, VisitCost], prices: Mapping[str, float]
) -> list[_Way]:
    by_id = {option.id: option for option in options}
    found = []
    for option in options:
        needed = needed_by(option, by_id) if option.fixes else None
        if needed is None:
            continue
        group = [*needed, option]
        places = tuple(dict.fromkeys(option.place for option in group))
        minutes = sum(option.minutes for option in group)
        for place in places:
            mends = any(option.fixes for option in group if option.place is place)
            minutes += visits[place].enter_minutes + (visits[place].test_minutes if mends else 0.0)
        stakes = sum(prices.get(option.stakes, 0.0) for option in group)
        found.append(_Way(option, needed, places, minutes, stakes))
    return found


def _from(
    here: Place, ways: Sequence[_Way], visits: Mapping[Place, VisitCost], hand_over: float
) -> dict[str, DirectFix]:
    best: dict[str, DirectFix] = {}
    for way in ways:
        minutes = way.minutes - (visits[here].enter_minutes if here in way.places else 0.0)
        for cause, chance in way.option.fixes.items():
            cost = minutes + way.stakes + (1 - chance) * hand_over
            if cost < (best[cause].cost if cause in best else hand_over):
                best[cause] = DirectFix(way.option, way.needed, minutes, cost)
    return best


def needed_by(option: Option, by_id: Mapping[str, Option]) -> tuple[Option, ...] | None:
    """All that a step needs, what is needed first in front; None where some of it cannot be
    done.
    """
    found: list[Option] = []
    return tuple(found[:-1]) if _gather(option, by_id, found, ()) else None


def _gather(
    option: Option, by_id: Mapping[str, Option], found: list[Option], above: tuple[str, ...]
) -> bool:
    """Add a step behind all that it needs; false where some of it cannot be done, or needs
    itself.
    """
    if option in found:
        return True
    if option.id in above or any(name not in by_id for name in option.after):
        return False
    if not all(_gather(by_id[name], by_id, found, (*above, option.id)) for name in option.after):
        return False
    found.append(option)
    return True
