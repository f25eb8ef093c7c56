"""The document that a plan is, as `docs/json.md` describes it."""

from collections.abc import Mapping, Sequence

import msgspec

from mending.knowledge import HowTo
from mending.model import Place, Risk
from mending.plan.objective import Beliefs, ResidualBelief
from mending.plan.options import Named, Option, VisitCost


class StepResult(msgspec.Struct, frozen=True, kw_only=True):
    """One step of a visit.

    Attributes:
        chance: that it puts right what is wrong, or one of the things that are, if nothing before
            it helped.
        needs: facts still to be found out before it can be done.
        tests: whether its own report tells something about causes.
        leads_to: for each other cause that its report may name, the steps to go straight for then;
            the likeliest first.
    """

    id: str
    does: str
    minutes: float
    chance: float
    stakes: Risk
    needs: tuple[str, ...]
    repair: str | None
    why: str
    tests: bool = False
    leads_to: Mapping[str, str] = {}


class VisitResult(msgspec.Struct, frozen=True, kw_only=True):
    """The steps done in one place between two test starts. `minutes` is getting there and the test
    start; `at_hand` what has to be there before one goes, `beside` the steps of later visits that
    are begun meanwhile, on another PC.
    """

    place: Place
    how: str
    minutes: float
    steps: tuple[StepResult, ...]
    at_hand: tuple[str, ...] = ()
    beside: tuple[str, ...] = ()


class BlockedResult(msgspec.Struct, frozen=True, kw_only=True):
    """A step that could help but cannot be done, and what would allow it."""

    id: str
    chance: float
    says: str


class DearerResult(msgspec.Struct, frozen=True, kw_only=True):
    """A step that may help and costs more than handing over; it can be chosen all the same.

    Attributes:
        chance: that it mends after everything planned did not help; minutes: with the ways there
            and what it needs.
        visits: what there is to do for it, in order.
    """

    id: str
    does: str
    chance: float
    minutes: float
    stakes: Risk
    visits: tuple[VisitResult, ...]


class ResortStep(msgspec.Struct, frozen=True, kw_only=True):
    """A step of a last resort. `state` is `planned dearer open blocked tried`; `says`: what blocks
    it.
    """

    id: str
    state: str
    chance: float
    minutes: float
    says: str


class ResortResult(msgspec.Struct, frozen=True, kw_only=True):
    """A last resort, and its steps for this kind of PC."""

    id: str
    says: str
    steps: tuple[ResortStep, ...]


class CurvePoint(msgspec.Struct, frozen=True, kw_only=True):
    """Chance of a working PC by so many minutes."""

    minutes: float
    chance: float


class PlanResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="plan/1"):
    """The order of steps.

    Attributes:
        expected_minutes: until the PC works or the plan is at its end.
        chance_by: chance of a working PC by so many minutes; curve: the same at every point where
            it rises.
        cost: expected minutes with the prices of what is at stake and with handing over, which the
            plan keeps least.
        exact: whether this order is proved to be the best.
        dearer: steps that may help and are not planned, for handing over costs less.
        resorts: the last resorts, in the order in which they are taken.
        cards: how the steps are done, where that was asked for.
        gap: how far from the best it can be at most, as a share; None where nothing is proved.
    """

    visits: tuple[VisitResult, ...]
    blocked: tuple[BlockedResult, ...]
    expected_minutes: float
    chance_by: Mapping[str, float]
    curve: tuple[CurvePoint, ...] = ()
    cost: float = 0.0
    exact: bool
    gap: float | None
    dearer: tuple[DearerResult, ...] = ()
    resorts: tuple[ResortResult, ...] = ()
    cards: tuple[HowTo, ...] = ()

    @property
    def first(self) -> StepResult | None:
        """The step to do now."""
        return self.visits[0].steps[0] if self.visits else None


# What a plan tells about itself: its visits in words and numbers, expected minutes, chances by the
# clock.


Order = Sequence[Sequence[Option]]
_MARKS = (30, 60, 120)


def visits_of(
    beliefs: Beliefs, order: Order, visits: Mapping[Place, VisitCost], named: Named
) -> tuple[VisitResult, ...]:
    """Each visit, with the chance of each step if nothing before it helped."""
    left, found = ResidualBelief(beliefs), list[VisitResult]()
    for steps in order:
        rows = list[StepResult]()
        for step in steps:
            rows.append(_step(step, left, named))
            left = left.after(step)
        cost = visits[steps[0].place]
        found.append(
            VisitResult(
                place=steps[0].place, how=cost.how, minutes=ways(steps, visits), steps=tuple(rows)
            )
        )
    return tuple(found)


def ways(steps: Sequence[Option], visits: Mapping[Place, VisitCost]) -> float:
    """Minutes of a visit beside its steps: the way there, and the test start if something was
    changed.
    """
    cost = visits[steps[0].place]
    return cost.enter_minutes + (cost.test_minutes if any(step.fixes for step in steps) else 0.0)


def curve_of(
    beliefs: Beliefs, order: Order, visits: Mapping[Place, VisitCost], named: Named
) -> tuple[CurvePoint, ...]:
    """Chance of a working PC by the clock. What a visit mended shows at its end; a cause that it
    named is gone straight for, and shows after that.
    """
    total = sum(beliefs.values()) or 1.0
    left, clock, works = ResidualBelief(beliefs), 0.0, list[tuple[float, float]]()
    for steps in order:
        clock += ways(steps, visits) + sum(step.minutes for step in steps)
        works.append((clock, left.fixed_by(steps) / total))
        straight = named[steps[0].place]
        for cause, found in _named_in(left, steps).items():
            if cause in straight:
                way = straight[cause]
                works.append((clock + way.minutes, found / total * way.option.fixes[cause]))
        left = left.after(*steps)
    reached, points = 0.0, [CurvePoint(minutes=0.0, chance=0.0)]
    for minutes, share in sorted(works):
        reached += share
        points.append(CurvePoint(minutes=round(minutes, 2), chance=min(reached, 1.0)))
    return tuple(points)


def marks_of(curve: Sequence[CurvePoint]) -> dict[str, float]:
    """Chance of a working PC by each mark."""
    return {
        str(mark): max(point.chance for point in curve if point.minutes <= mark) for mark in _MARKS
    }


def expected_of(
    beliefs: Beliefs, order: Order, visits: Mapping[Place, VisitCost], named: Named
) -> float:
    """Expected minutes of work until the PC works or the plan is at its end; stakes and handing
    over do not count.
    """
    total = sum(beliefs.values()) or 1.0
    left, expected = ResidualBelief(beliefs), 0.0
    for steps in order:
        expected += left.total / total * (ways(steps, visits) + sum(step.minutes for step in steps))
        straight = named[steps[0].place]
        for cause, found in _named_in(left, steps).items():
            expected += found / total * straight[cause].minutes if cause in straight else 0.0
        left = left.after(*steps)
    return expected


def _named_in(left: ResidualBelief, steps: Sequence[Option]) -> dict[str, float]:
    """By cause, the chance that it is there, is not mended by these steps, and one of their reports
    names it.
    """
    found = {}
    for cause in {cause for step in steps for cause in step.finds if cause in left.beliefs}:
        unmended, unnamed = left.of(cause), 1.0
        for step in steps:
            unmended *= 1.0 - step.fixes.get(cause, 0.0)
            unnamed *= 1.0 - step.finds.get(cause, 0.0)
        found[cause] = unmended * (1.0 - unnamed)
    return found


def _step(option: Option, left: ResidualBelief, named: Named) -> StepResult:
    believed, total = left.there, left.total or 1.0
    helped = {
        cause: believed.get(cause, 0.0) * share
        for cause, share in {**option.finds, **option.fixes}.items()
    }
    main = max(helped, key=lambda cause: helped[cause], default="")
    verb = "puts right" if main in option.fixes else "tells whether it is"
    straight = named[option.place]
    worth = sum(believed.get(cause, 0.0) * chance for cause, chance in option.fixes.items()) / total
    return StepResult(
        id=option.id,
        does=option.does,
        minutes=option.minutes,
        chance=min(worth, 1.0),
        stakes=option.stakes,
        needs=option.unknown,
        repair=option.repair,
        tests=bool(option.finds),
        leads_to={
            cause: straight[cause].says_after(option)
            for cause in sorted(option.finds, key=lambda cause: -helped[cause])
            if cause in straight and straight[cause].option.id != option.id
        },
        why=(
            f"{verb} {main} ({believed.get(main, 0.0) / total:.0%})"
            if main
            else "must come before another step"
        ),
    )
