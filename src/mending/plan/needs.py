"""What steps need: whether it holds, how likely it does where nobody knows, and which step supplies
it.
"""

from collections.abc import Mapping, Sequence
from functools import cached_property

import msgspec

from mending.knowledge import Need, Pack, Precaution, Sign, Step, answers_of
from mending.model import Place, RepairId
from mending.reason import answer_chances

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
