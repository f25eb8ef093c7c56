"""Calls replayed to the step that puts the PC right: does the plan come to it within the visits and
minutes that a practitioner would accept, and does it ever fall silent before?

The calls are data (`tests/data/replays.toml`), written before it was looked at what the plan does
with them.
"""

import tomllib
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from mending.case.events import AnyEvent, Learned, PassedOver, Saw, Started, Tried, Visiting
from mending.case.events import VisitStep as Planned
from mending.case.reasoning import plan_of, question_of
from mending.case.state import CaseState, fold, next_step, start_due
from mending.case.work import heard
from mending.knowledge import ReportKind, Step, base_codes, base_pack
from mending.plan import VisitResult
from mending.reason import Understanding

WANTED = 0.95
CALLS = Path(__file__).parent.parent / "tests" / "data" / "replays.toml"
PACK, CODES = base_pack(), base_codes()
_AT = "2026-01-05T09:00:00Z"
_QUESTIONS = 4
_MOST_VISITS = 25
_NAMED = {"usual", "often", "certain"}
"""Grades with which a test is taken to name what is there."""


@dataclass
class Replay:
    """One call with one truth, as far as it went.

    Attributes:
        done: the steps in the order in which they were done.
        ended: `right` step done, `silent`, or `late` beyond every bound.
    """

    name: str
    family: str
    bench: bool
    cause: str
    done: list[str] = field(default_factory=list)
    visits: int = 0
    minutes: float = 0.0
    ended: str = "late"
    within: bool = False


def run() -> None:
    """Print how many calls come to their step in time, by family, with and without a bench."""
    replays = list(replayed())
    for name, some in _groups(replays):
        share = sum(each.within for each in some) / len(some)
        print(f"calls that come to their step in time, {name}: {share:.0%} of {len(some)}")
    for each in replays:
        if not each.within:
            course = ", ".join(each.done[-6:])
            print(
                f"  {each.ended}: {each.name}, {each.cause}: {each.visits} visits,"
                f" {each.minutes:.0f} min: {course}"
            )
    share = sum(each.within for each in replays) / len(replays)
    silent = sum(each.ended == "silent" for each in replays)
    verdict = "ok" if share >= WANTED and not silent else "not reached"
    print(f"replays: {share:.0%} in time (wanted {WANTED:.0%}), {silent} silent {verdict}")


def _groups(replays: list[Replay]) -> Iterator[tuple[str, list[Replay]]]:
    for family in Counter(each.family for each in replays):
        yield family, [each for each in replays if each.family == family]
    yield "with a bench", [each for each in replays if each.bench]
    yield "without one", [each for each in replays if not each.bench]


def replayed(each: int = 1) -> Iterator[Replay]:
    """Every call with each of its truths, or one of so many."""
    understanding = Understanding(PACK, CODES)
    troubles = tomllib.loads(CALLS.read_text(encoding="utf-8"))["trouble"]
    calls = [(trouble, truth) for trouble in troubles for truth in trouble["truths"]]
    for trouble, truth in calls[::each]:
        yield _Call(trouble, truth, understanding).to_its_end()


class _Call:
    def __init__(self, trouble: Any, truth: Any, understanding: Understanding) -> None:
        self._trouble, self._truth = trouble, truth
        facts = {"family": trouble["family"], **trouble["facts"]}
        self._events: list[AnyEvent] = [Learned(at=_AT, facts=facts)]
        self._events += [heard(understanding.of(text), _AT) for text in trouble["said"]]
        for step, report in trouble.get("tried", {}).items():
            self._events.append(Tried(at=_AT, step=step, report=ReportKind(report)))
        bench = trouble["facts"]["bench"] == "yes"
        self._replay = Replay(trouble["name"], trouble["family"], bench, truth["cause"])

    @property
    def _state(self) -> CaseState:
        return fold(self._events)

    def to_its_end(self) -> Replay:
        self._ask()
        replay = self._replay
        while replay.visits < _MOST_VISITS:
            plan = plan_of(self._state, PACK)
            visits = plan.visits or (plan.dearer[0].visits if plan.dearer else ())
            if not visits:
                replay.ended = "silent"
                break
            if self._visit(visits[0]):
                replay.ended = "right"
                break
        truth = self._truth
        in_time = replay.visits <= truth["visits"] and replay.minutes <= truth["minutes"]
        replay.within = replay.ended == "right" and in_time
        return replay

    def _ask(self) -> None:
        """The questions before the first step; what the call does not tell nobody knows."""
        answers = self._trouble.get("answers", {})
        for _ in range(_QUESTIONS):
            question = question_of(self._state, PACK)
            name = question.sign
            if name is None:
                break
            self._replay.minutes += question.minutes
            if name not in answers:
                self._events.append(PassedOver(at=_AT, question=name))
            elif question.fact:
                self._events.append(Learned(at=_AT, facts={name: answers[name]}))
            else:
                self._events.append(Saw(at=_AT, signs={name: answers[name]}))

    def _visit(self, visit: VisitResult) -> bool:
        """Do a visit, as `work` leads through it; true once the right step was done."""
        steps = tuple(
            Planned(step=each.id, minutes=each.minutes, chance=each.chance, why=each.why)
            for each in visit.steps
        )
        self._events.append(Visiting(at=_AT, place=visit.place, how=visit.how, steps=steps))
        self._replay.visits += bool(visit.minutes or any(PACK.steps[s.step].fixes for s in steps))
        self._replay.minutes += visit.minutes
        minutes = {each.id: each.minutes for each in visit.steps}
        while (name := next_step(self._state, PACK)) is not None:
            self._replay.minutes += minutes[name]
            self._replay.done.append(name)
            if name in self._truth["right"]:
                return True
            self._events.append(Tried(at=_AT, step=name, report=self._reported(PACK.steps[name])))
        if start_due(self._state, PACK):
            self._events.append(Started(at=_AT, works=False))
        return False

    def _reported(self, step: Step) -> ReportKind:
        told = self._trouble.get("reports", {}).get(step.id)
        if told is not None:
            kind = ReportKind(told)
            return kind if kind in step.fitting else step.fitting[-2]
        if not step.finds:
            return ReportKind.DONE
        named = step.finds.get(self._truth["cause"]) in _NAMED
        if not named:
            return ReportKind.NOTHING_WRONG
        return ReportKind.NOT_MENDED if step.fixes else ReportKind.FOUND
