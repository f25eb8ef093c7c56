"""What a plan tells about itself: its visits in words and numbers, expected minutes, chances by the
clock.
"""

from collections.abc import Mapping, Sequence

from mending.model import Place
from mending.plan.direct_fix import Named
from mending.plan.objective import Beliefs
from mending.plan.options import Option, VisitCost
from mending.plan.residual_belief import ResidualBelief
from mending.plan.results import CurvePoint, StepResult, VisitResult

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
