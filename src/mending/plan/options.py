"""From the pack and what is known to plain options: numbers, and reasons why not."""

from collections.abc import Mapping

import msgspec

from mending.knowledge import Pack, Step
from mending.model import Place, Stakes

_COPY_STEP = "copy-personal-files"
_TRACE_STEP = "trace-disk"


class Situation(msgspec.Struct, frozen=True, kw_only=True):
    """What decides which steps can be done.

    Attributes:
        facts: answers to facts; unknown ones are left out.
        tried: steps done, by id; the value is false where a step could not be run.
        on_bench: whether the disk or its image is attached to the case.
        traced: whether there is a trace of it.
        repairs: repairs that the findings call for.
    """

    facts: Mapping[str, str] = {}
    tried: Mapping[str, bool] = {}
    on_bench: bool = False
    traced: bool = False
    repairs: frozenset[str] = frozenset()


class VisitCost(msgspec.Struct, frozen=True):
    """Minutes to get to a place and for the test start afterwards; `blocked` says why it cannot be reached."""

    enter_minutes: float
    test_minutes: float
    how: str
    blocked: str = ""


class Option(msgspec.Struct, frozen=True, kw_only=True):
    """A step as numbers.

    Attributes:
        fixes: chance to put each cause right.
        finds: chance that its report names each cause.
        after: steps that must come before it.
        unknown: needs whose answer nobody knows yet.
        blocked: why it cannot be done; empty where it can.
    """

    id: str
    does: str
    minutes: float
    place: Place
    stakes: Stakes
    fixes: Mapping[str, float]
    finds: Mapping[str, float]
    after: tuple[str, ...]
    unknown: tuple[str, ...]
    blocked: str
    repair: str | None


def options_from(pack: Pack, situation: Situation, hasty: bool = False) -> list[Option]:
    """Every step of the pack that was not done yet. Args: hasty: personal files may be risked without a copy."""
    return [
        _option(pack, step, situation, hasty) for step in pack.steps.values() if not situation.tried.get(step.id, False)
    ]


def visit_costs(pack: Pack, situation: Situation) -> dict[Place, VisitCost]:
    """What each place costs here. With the disk attached we are on the bench already."""
    costs = {}
    for place, visit in pack.visits.items():
        here = place is Place.BENCH and situation.on_bench
        blocked = "" if here else _missing(pack, visit.needs, situation.facts)
        minutes, how = (0.0, "The disk is attached to the case already.") if here else (visit.minutes, visit.how)
        costs[place] = VisitCost(minutes, visit.test_start_minutes, how, blocked)
    return costs


def _option(pack: Pack, step: Step, situation: Situation, hasty: bool) -> Option:
    after = [name for name in step.after if not situation.tried.get(name, False)]
    copied = hasty or situation.facts.get("backup") == "yes" or situation.tried.get(_COPY_STEP, False)
    if step.stakes is Stakes.FILES and not copied:
        after.append(_COPY_STEP)
    return Option(
        id=step.id,
        does=step.does,
        minutes=step.minutes,
        place=step.place,
        stakes=step.stakes,
        fixes={cause: pack.chance(grade) for cause, grade in step.fixes.items()},
        finds={cause: pack.chance(grade) for cause, grade in step.finds.items()},
        after=tuple(after),
        unknown=tuple(name for name in step.needs if name not in situation.facts and not _shown(name, situation)),
        blocked=_blocked(pack, step, situation),
        repair=step.repair,
    )


def _shown(fact: str, situation: Situation) -> bool:
    return fact == "bench" and situation.on_bench


def _blocked(pack: Pack, step: Step, situation: Situation) -> str:
    if step.id in situation.tried:
        return "It could not be run."
    if step.repair is not None and not situation.on_bench:
        return "It needs the disk or its image in the case: mending add CASE IMAGE."
    if step.repair is not None and step.repair not in situation.repairs:
        return "No finding on the disk calls for it."
    if step.id == _TRACE_STEP and situation.traced:
        return "The disk has been traced."
    facts = {**situation.facts, "bench": "yes"} if situation.on_bench else situation.facts
    return _missing(pack, step.needs, facts)


def _missing(pack: Pack, needs: Mapping[str, str], facts: Mapping[str, str]) -> str:
    """The first need that is known not to hold."""
    for name, answer in needs.items():
        if facts.get(name, answer) != answer:
            wanted = pack.facts[name].answers[answer].says
            return f"It needs {name} = {answer} ({wanted}); the case says {facts[name]}."
    return ""
