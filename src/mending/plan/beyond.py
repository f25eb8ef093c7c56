"""What is left where a plan ends: steps that cost more than handing over does, and the ladder of
last resorts. Nothing that can still help is left unsaid.
"""

from collections.abc import Mapping, Sequence

from mending.knowledge import Pack
from mending.model import Place
from mending.plan.direct_fix import Named, needed_by
from mending.plan.objective import Beliefs
from mending.plan.options import Option, VisitCost
from mending.plan.residual_belief import ResidualBelief
from mending.plan.results import DearerResult, ResortResult, ResortStep, VisitResult
from mending.plan.summary import visits_of, ways

_LEAST = 0.001
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
        if chance >= _LEAST:
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
