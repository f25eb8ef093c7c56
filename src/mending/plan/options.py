"""From the pack and what is known to plain options: numbers, and reasons why not."""

from collections.abc import Mapping

import msgspec

from mending.knowledge import Pack, Step
from mending.knowledge.steps import DRIVE_KIND
from mending.model import FINDINGS, Place, Risk
from mending.plan.needs import Needs, Situation, rank_of

BACKUP = "backup"
"""The fact whether there is a copy of the personal files."""
_TRACE_STEP = "trace-disk"
_BY_FINDINGS = frozenset(repair for row in FINDINGS.values() for repair in row.repairs)
"""Repairs that some finding calls for. The others are chosen by whoever knows what happened to the
PC, such as a controller whose mode was changed, which no disk tells of.
"""


class VisitCost(msgspec.Struct, frozen=True):
    """Minutes to get to a place, and for the test start that follows when something was changed
    there.
    """

    enter_minutes: float
    test_minutes: float
    how: str


class Option(msgspec.Struct, frozen=True, kw_only=True):
    """A step as numbers.

    Attributes:
        minutes: at work and waiting.
        fixes: chance to put each cause right; finds: chance that its report names it. Both count
            the chance that what the step needs, and nobody knows yet, holds.
        after: steps that must come before it.
        unknown: needs whose answer nobody knows yet.
        blocked: why it cannot be done; empty where it can.
        once_told: whether it is for a cause that a report has named alone: our own repairs before
            the disk is traced, which shows whether there is something for them.
    """

    id: str
    does: str
    minutes: float
    place: Place
    stakes: Risk
    fixes: Mapping[str, float]
    finds: Mapping[str, float]
    after: tuple[str, ...]
    unknown: tuple[str, ...]
    blocked: str
    repair: str | None
    once_told: bool = False


def options_from(pack: Pack, situation: Situation) -> list[Option]:
    """Every step of the pack that is for this kind of PC and was not done yet. What puts personal
    files at stake comes behind a copy of them, whatever a person cares for.
    """
    needs = Needs(pack, situation)
    costs = visit_costs(pack, situation)
    placed = [
        _placed(step, needs, costs)
        for step in pack.steps.values()
        if not situation.tried.get(step.id, False)
    ]
    open_steps = [step for step in placed if needs.concerns(step)]
    made = {step.id: _option(step, needs) for step in open_steps}
    for name, option in made.items():
        if not option.blocked and _leads_back(made, option.after, name):
            made[name] = msgspec.structs.replace(option, blocked="It needs a step that needs it.")
    for step in open_steps:
        for other in _rather_after(step, needs):
            able = other in made and other not in situation.tried
            able = able and not (made[other].blocked or made[other].once_told)
            if able and not _leads_back(made, (other,), step.id):
                after = dict.fromkeys((*made[step.id].after, other))
                made[step.id] = msgspec.structs.replace(made[step.id], after=tuple(after))
    return list(made.values())


def _rather_after(step: Step, needs: Needs) -> list[str]:
    """What should come before a step, where it can be done: as its row says, as precautions say,
    and our own repairs in the order in which they build on each other, before anything else that
    changes the PC.
    """
    first = [row.step for row in needs.precautions if row.holds_back(step)]
    if step.repair is not None:
        first += [other for other, rank in needs.urgent if rank < rank_of(step)]
    elif step.strains and step.fixes:
        first += [other for other, _ in needs.urgent]
    steps = needs.pack.steps
    own = [name for name in step.rather_after if not _there(steps[name], needs.situation)]
    return [*own, *first]


def _there(step: Step, situation: Situation) -> bool:
    """Whether all that a step would give is known to be there."""
    return bool(step.gives) and situation.meets(step.gives)


def _placed(step: Step, needs: Needs, costs: Mapping[Place, VisitCost]) -> Step:
    """The step in the place with the shortest way of those that are known to be open; else in the
    first that this kind of PC has. Our own repairs are done where the disk is traced.
    """
    there = needs.pack.steps[_TRACE_STEP] if _behind_trace(step, needs) else step
    placed = [msgspec.structs.replace(step, place=place) for place in (there.place, *there.also)]
    placed = [each for each in placed if needs.concerns(each)] or [step]
    visits = needs.pack.visits
    open_ones = [each for each in placed if needs.situation.meets(visits[each.place].needs)]
    return min(open_ones, key=lambda each: costs[each.place].enter_minutes, default=placed[0])


def _behind_trace(step: Step, needs: Needs) -> bool:
    """Whether a step is one of our own repairs and the disk has to be traced for it first."""
    situation = needs.situation
    can_be = _TRACE_STEP in needs.pack.steps and _TRACE_STEP not in situation.tried
    return step.repair is not None and not situation.on_bench and can_be


def _leads_back(made: Mapping[str, Option], after: tuple[str, ...], name: str) -> bool:
    """Whether a step is among those that these steps need, themselves or through others."""
    seen, waiting = set[str](), list(after)
    while waiting:
        other = waiting.pop()
        if other == name:
            return True
        if other in made and other not in seen:
            seen.add(other)
            waiting += made[other].after
    return False


def visit_costs(pack: Pack, situation: Situation) -> dict[Place, VisitCost]:
    """What each place costs here: the shortest way that is open. With the disk attached we are on
    the bench already.
    """
    costs = {}
    for place, visit in pack.visits.items():
        open_ones = [way for way in visit.ways if situation.meets(way.when)]
        there = [
            (screen.opens[place], screen.how)
            for screen in pack.screens.values()
            if place in screen.opens and situation.meets(dict([screen.answers]))
        ]
        ways = [(way.minutes, way.how) for way in open_ones if way.only][:1]
        if there:
            ways = there
        elif not ways:
            ways = [(visit.minutes, visit.how), *((way.minutes, way.how) for way in open_ones)]
        if place is Place.BENCH and situation.on_bench:
            ways.append((0.0, "The disk is attached to the case already."))
        minutes, how = min(ways)
        costs[place] = VisitCost(minutes, visit.test_start_minutes, how)
    return costs


def _option(step: Step, needs: Needs) -> Option:
    situation = needs.situation
    wanted = needs.of(step)
    after = [name for name in step.after if not situation.tried.get(name, False)]
    after += [_TRACE_STEP] if _behind_trace(step, needs) else []
    after += needs.supplied(wanted)
    blocked = _blocked(step, needs)
    if step.stakes is Risk.FILES and situation.facts.get(BACKUP) != "yes":
        copy = needs.giver(BACKUP, ("yes",))
        if copy is None:
            blocked = (
                blocked
                or f"It needs a copy of the personal files first. {needs.lacking(BACKUP, ('yes',))}"
            )
        else:
            after.append(copy)
    return Option(
        id=step.id,
        does=step.does,
        minutes=step.takes_on(situation.drive_bytes, situation.answer(DRIVE_KIND)),
        place=step.place,
        stakes=step.stakes,
        fixes=needs.chances(wanted, step.fixes),
        finds=needs.chances(wanted, step.finds),
        after=tuple(dict.fromkeys(after)),
        unknown=tuple(name for name in wanted if situation.answer(name) is None),
        blocked=blocked,
        repair=step.repair,
        once_told=step.repair in _BY_FINDINGS and _behind_trace(step, needs),
    )


def _blocked(step: Step, needs: Needs) -> str:
    situation = needs.situation
    if step.id in situation.tried:
        return "It could not be run."
    for other in step.after:
        if not situation.tried.get(other, True):
            return f"It needs {other}, which could not be run."
        if other in situation.failed:
            return f"It needs {other}, which did not succeed."
    if step.repair is not None and not situation.on_bench and not _behind_trace(step, needs):
        return "It needs the disk or its image in the case: mending add CASE IMAGE."
    if situation.on_bench and step.repair in _BY_FINDINGS - situation.repairs:
        return "No finding on the disk calls for it."
    if step.id == _TRACE_STEP and situation.traced:
        return "The disk has been traced."
    return needs.blocked(step)
