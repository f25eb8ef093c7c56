"""From the pack and what is known to plain options: numbers, and reasons why not."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import TypeAlias

import msgspec

from mending.knowledge import Need, Pack, Precaution, Sign, Step, answers_of
from mending.knowledge.steps import DRIVE_KIND
from mending.model import FINDINGS, Place, RepairId, Risk
from mending.reason import answer_chances

# What steps need: whether it holds, how likely it does where nobody knows, and which step supplies
# it.


Wanted = Mapping[str, tuple[str, ...]]
"""For a fact or sign the answers that will do."""


_RANKS = {repair: rank for rank, repair in enumerate(RepairId)}


def rank_of(step: Step) -> int:
    """How early our own repair of a step comes among the others, from 0; -1 for all other steps."""
    return _RANKS[step.repair] if step.repair is not None else -1


class Situation(msgspec.Struct, frozen=True, kw_only=True):
    """What decides which steps can be done.

    Attributes:
        facts: answers to facts and signs; unknown ones are left out.
        tried: steps done, by id; the value is false where a step could not be run.
        failed: steps done that did not do what other steps need of them.
        drive_bytes: the size of the drive; 0 where nobody knows it.
        on_bench: whether the disk or its image is attached to the case.
        traced: whether there is a trace of it.
        repairs: repairs that the findings call for; urgent: those for what keeps the PC from
            starting.
        chances: how likely each cause is, as far as precautions ask for it.
    """

    facts: Mapping[str, str] = {}
    tried: Mapping[str, bool] = {}
    failed: frozenset[str] = frozenset()
    drive_bytes: int = 0
    on_bench: bool = False
    traced: bool = False
    repairs: frozenset[str] = frozenset()
    urgent: frozenset[str] = frozenset()
    chances: Mapping[str, float] = {}

    def answer(self, name: str) -> str | None:
        """The answer, if it is known. Whoever has the disk has a bench."""
        return "yes" if name == "bench" and self.on_bench else self.facts.get(name)

    def calls_for(self, row: Precaution) -> bool:
        """Whether a precaution has to be taken now."""
        likely = not row.cause or self.chances.get(row.cause, 0.0) > row.above
        return likely and self.meets(row.when)

    def meets(self, needs: Mapping[str, Need]) -> bool:
        """Whether all of them are known to hold."""
        return all(self.answer(name) in answers_of(need) for name, need in needs.items())


class Needs:
    """The needs of the steps of a pack, in one situation."""

    def __init__(self, pack: Pack, situation: Situation) -> None:
        self.pack, self.situation = pack, situation
        self._of: dict[tuple[str, Place], Wanted] = {}
        self._by_gift: dict[str, list[Step]] = {}
        for step in pack.steps.values():
            for name in step.gives:
                self._by_gift.setdefault(name, []).append(step)

    @cached_property
    def precautions(self) -> list[Precaution]:
        """Those that have to be taken now."""
        rows = self.pack.precautions.values()
        return [row for row in rows if self.situation.calls_for(row)]

    @cached_property
    def urgent(self) -> list[tuple[str, int]]:
        """Our own repairs of what keeps the PC from starting: step and rank."""
        steps = self.pack.steps.values()
        return [(each.id, rank_of(each)) for each in steps if each.repair in self.situation.urgent]

    def of(self, step: Step) -> Wanted:
        """What a step and its place need."""
        key = step.id, step.place
        if key not in self._of:
            there = step.place is Place.BENCH and self.situation.on_bench
            visit = {} if there else self.pack.visits[step.place].needs
            rows = [*visit.items(), *step.needs.items()]
            self._of[key] = {name: answers_of(need) for name, need in rows}
        return self._of[key]

    def concerns(self, step: Step) -> bool:
        """Whether a step is for this kind of PC: no fact that nobody can change (it has no
        `supply`) is against it.
        """
        return not any(
            name in self.pack.facts
            and not self.pack.facts[name].supply
            and self._missing(name, answers)
            for name, answers in self.of(step).items()
            if not self._givers(name, answers)
        )

    def supplied(self, wanted: Wanted) -> list[str]:
        """The steps that supply what is known to be missing."""
        givers = [
            self.giver(name, answers)
            for name, answers in wanted.items()
            if self._missing(name, answers)
        ]
        return [name for name in givers if name is not None]

    def blocked(self, step: Step) -> str:
        """The first need that does not hold and that nothing supplies, in words; empty where there
        is none.
        """
        for name, answers in self.of(step).items():
            if self._missing(name, answers) and self.giver(name, answers) is None:
                return self.lacking(name, answers)
        return ""

    def lacking(self, name: str, answers: Sequence[str]) -> str:
        """What is missing, and what would supply it."""
        question = self.pack.question(name)
        wanted = " or ".join(answers)
        told = self.situation.answer(name)
        says = f"It needs {name} = {wanted}; " + (
            f"by what is known it is {told}." if told else "nobody knows yet."
        )
        givers = [
            step
            for step in self._givers(name, answers)
            if self.situation.tried.get(step.id) is not True
        ]
        if givers:
            return (
                f"{says} {givers[0].id} would supply it, but that cannot be done:"
                f" {self._reason(givers[0])}"
            )
        return f"{says} {question.supply}".rstrip() if question else says

    def giver(self, name: str, answers: Sequence[str]) -> str | None:
        """The quickest step that can be done and supplies one of these answers."""
        able = [step for step in self._givers(name, answers) if not self._reason(step)]
        return min(able, key=lambda step: (step.takes, step.id)).id if able else None

    def unknown(self, wanted: Wanted) -> list[tuple[Sign, tuple[str, ...]]]:
        """What nobody knows yet of it, and can be asked."""
        rows = [
            (self.pack.question(name), answers)
            for name, answers in wanted.items()
            if self.situation.answer(name) is None
        ]
        return [(question, answers) for question, answers in rows if question is not None]

    def chances(self, wanted: Wanted, grades: Mapping[str, str]) -> dict[str, float]:
        """The chances by cause that grades stand for, where all that nobody knows yet holds."""
        open_rows, found = self.unknown(wanted), {}
        for cause, grade in grades.items():
            chance = self.pack.chance(grade)
            for question, answers in open_rows:
                given = answer_chances(self.pack, self.pack.causes.get(cause), question)
                chance *= sum([given[answer] for answer in answers])
            found[cause] = chance
        return found

    def _missing(self, name: str, answers: Sequence[str]) -> bool:
        told = self.situation.answer(name)
        return told is not None and told not in answers

    def _givers(self, name: str, answers: Sequence[str]) -> list[Step]:
        return [step for step in self._by_gift.get(name, ()) if step.gives[name] in answers]

    def _reason(self, step: Step) -> str:
        """Why a giver cannot be done; one that was done and whose fact is missing all the same did
        not supply it.
        """
        if step.id in self.situation.tried:
            return (
                "it was done, and did not."
                if self.situation.tried[step.id]
                else "it could not be run."
            )
        for name, answers in self.of(step).items():
            if self._missing(name, answers):
                if any(
                    other.id != step.id and not self._stuck(other)
                    for other in self._givers(name, answers)
                ):
                    continue
                question = self.pack.question(name)
                return (
                    f"it needs {name} = {' or '.join(answers)}."
                    f" {question.supply if question else ''}".rstrip()
                )
        return ""

    def _stuck(self, step: Step) -> bool:
        """Whether a giver of what a giver needs cannot be done; it is not followed farther."""
        missing = (self._missing(name, answers) for name, answers in self.of(step).items())
        return step.id in self.situation.tried or any(missing)


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
    own = [name for name in step.after_if_possible if not _there(steps[name], needs.situation)]
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


# Where a cause leads that a report names: the step that mends it, behind all that this needs. Who
# is told it in a place is there already, and what can be mended there costs no way.


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
