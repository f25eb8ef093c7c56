"""What was believed after each piece of evidence: how a case came to its cause."""

from collections.abc import Mapping

import msgspec

from mending.case.events import (
    AnyEvent,
    Heard,
    Learned,
    Mended,
    PutBack,
    Read,
    Saw,
    Started,
    TakenBack,
    Traced,
    Tried,
)
from mending.case.folder import Case
from mending.case.state import fold, still_counting
from mending.case.thinking import causes_of
from mending.knowledge import Pack

_MOST, _TOP, _LEAST = 60, 3, 0.01
"""Turns that are worked out, the newest ones; causes of each, and how likely they are at least."""


class Turn(msgspec.Struct, frozen=True, kw_only=True):
    """One piece of evidence, and what was believed after it.

    Attributes:
        causes: the likeliest causes with their chances.
        chances: of every cause that was known then.
    """

    at: str
    what: str
    causes: tuple[tuple[str, float], ...]
    chances: Mapping[str, float] = {}


def turns(case: Case, pack: Pack) -> tuple[Turn, ...]:
    """The turns of a case, in the order in which they happened."""
    left = [case.events[number] for number in still_counting(case.events)]
    counting = [event for event in left if not isinstance(event, TakenBack)]  # its number is gone
    told = [number for number, event in enumerate(counting) if _words(event)][-_MOST:]
    found: list[Turn] = []
    for number in told:
        causes = causes_of(fold(counting[: number + 1]), pack).causes
        ranked = tuple(
            (cause.id, round(cause.chance, 3)) for cause in causes[:_TOP] if cause.chance >= _LEAST
        )
        chances = {cause.id: cause.chance for cause in causes}
        event = counting[number]
        what = _words(event)
        if not found or (found[-1].what, found[-1].causes) != (what, ranked):
            found.append(Turn(at=event.at, what=what, causes=ranked, chances=chances))
    return tuple(found)


def _words(event: AnyEvent) -> str:
    """What the evidence is; empty for what tells nothing of the cause."""
    match event:
        case Saw():
            said = [f"{name}: {answer}" for name, answer in event.signs.items()]
            return ", ".join([*said, *(code.words for code in event.codes)])
        case Heard():
            understood = {**event.signs, **event.facts, **event.tried}
            return ", ".join(f"{name}: {answer}" for name, answer in understood.items())
        case Learned():
            return ", ".join(f"{name}: {answer}" for name, answer in event.facts.items())
        case Traced():
            phase = event.trace.failing_phase
            return f"trace: stops at {phase}" if phase else f"trace: {event.trace.verdict}"
        case Read():
            return "crash records" if event.clues else ""
        case Tried():
            return f"{event.step}: {event.report}"
        case Started():
            return "it starts" if event.works or event.watch else "it does not start"
        case Mended() | PutBack():
            return ""
    return ""
