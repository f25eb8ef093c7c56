"""The state of a case: its events, folded."""

from collections.abc import Iterable, Mapping

import msgspec

from mending.boot.chain import Trace
from mending.case.events import (
    Added,
    AnyEvent,
    Closed,
    Heard,
    Learned,
    Mended,
    PutBack,
    Read,
    Reopened,
    Saw,
    Started,
    TakenBack,
    Traced,
    Tried,
)
from mending.crash.screens import SeenCode, clues_of_codes
from mending.knowledge import UNKNOWN
from mending.model import Finding
from mending.reason import Evidence, Report, Watched

USUAL_HOURS = 24.0
"""After how many hours trouble that comes and goes comes again, where nobody told."""


class CaseState(msgspec.Struct, frozen=True, kw_only=True):
    """What is known about a case now.

    Attributes:
        facts: answers to facts, `unknown` left out.
        heard: signs whose answers were understood from what somebody said.
        said: everything that was said in whole sentences.
        codes: codes and messages that a screen showed.
        passed: signs and facts that were asked and could not be answered.
        disk: path of the disk or image; None without one.
        trace: the newest trace; None before the first, and after every write until the next.
        clues: what the crash records show, as they were read last.
        tried: steps in the order in which they were done.
        starts: test starts, newest last.
        watched: the newest test start, where it is under watch.
        closed: how it ended; None while it is open.
    """

    facts: Mapping[str, str] = {}
    notes: Mapping[str, str] = {}
    seen: Mapping[str, str] = {}
    heard: frozenset[str] = frozenset()
    said: tuple[Heard, ...] = ()
    codes: tuple[SeenCode, ...] = ()
    passed: frozenset[str] = frozenset()
    evidence: tuple[Added, ...] = ()
    disk: str | None = None
    trace: Trace | None = None
    clues: tuple[Finding, ...] = ()
    tried: tuple[Tried, ...] = ()
    starts: tuple[Started, ...] = ()
    failed_starts: tuple[tuple[Report, ...], ...] = ()
    since_start: tuple[Report, ...] = ()
    watched: Watched | None = None
    undo_points: tuple[str, ...] = ()
    closed: Closed | None = None

    @property
    def under_watch(self) -> bool:
        """Whether the newest test start is under watch and nothing was done since."""
        return self.watched is not None and self.watched.done == self.since_start

    @property
    def works(self) -> bool:
        """Whether the newest test start succeeded and nothing was done since."""
        return bool(self.starts) and self.starts[-1].works and not self.since_start

    def as_evidence(self) -> Evidence:
        """What bears on the causes."""
        reports = tuple(Report(attempt.step, attempt.report) for attempt in self.tried)
        return Evidence(
            facts=self.facts,
            seen=self.seen,
            heard=self.heard & set(self.seen),
            trace=self.trace,
            clues=self._clues(),
            reports=reports,
            failed_starts=self.failed_starts,
            watched=self.watched,
        )

    def failed_again(self) -> "CaseState":
        """As it would be if a PC under watch failed now."""
        failed = (*self.failed_starts, self.since_start)
        return _with(self, failed_starts=failed, since_start=(), watched=None)

    def _clues(self) -> tuple[Finding, ...]:
        """What the records show, and what codes on a screen add to it."""
        known = {clue.id for clue in self.clues}
        return (*self.clues, *(clue for clue in clues_of_codes(self.codes) if clue.id not in known))


def fold(events: Iterable[AnyEvent]) -> CaseState:
    """The state after all events."""
    state = CaseState()
    for event in events:
        state = _after(state, event)
    return state


def _after(state: CaseState, event: AnyEvent) -> CaseState:
    match event:
        case Learned():
            facts, passed = _answers(state.facts, state.passed, event.facts)
            return _with(state, facts=facts, passed=passed, notes={**state.notes, **event.notes})
        case Saw():
            seen, passed = _answers(state.seen, state.passed, event.signs)
            heard = state.heard - set(event.signs)
            codes = (*state.codes, *event.codes)
            return _with(state, seen=seen, passed=passed, heard=heard, codes=codes)
        case Heard():
            return _after_words(state, event)
        case Added():
            is_disk = event.sort == "disk"
            disk, trace = (event.path, None) if is_disk else (state.disk, state.trace)
            return _with(state, evidence=(*state.evidence, event), disk=disk, trace=trace)
        case Traced():
            return _with(state, trace=event.trace)
        case Read():
            return _with(state, clues=event.clues)
        case Tried():
            done = (*state.since_start, Report(event.step, event.report))
            return _with(state, tried=(*state.tried, event), since_start=done)
        case Started():
            state = _with(state, starts=(*state.starts, event))
            if event.watch:
                return _with(state, watched=_watched(state))
            return (
                _with(state, since_start=(), watched=None) if event.works else state.failed_again()
            )
        case TakenBack():
            return _step_back(state, event.step) if event.step else _start_back(state)
        case Closed():
            return _with(state, closed=event)
        case Reopened():
            return _with(state, closed=None)
        case Mended():
            return _with(state, undo_points=(*state.undo_points, event.undo_point), trace=None)
        case PutBack():
            return _without(state, event.undo_point)


def _step_back(state: CaseState, step: str) -> CaseState:
    """Without the newest report of a step, wherever it counted."""
    number = max(at for at, attempt in enumerate(state.tried) if attempt.step == step)
    report = Report(step, state.tried[number].report)
    tried = (*state.tried[:number], *state.tried[number + 1 :])
    if report in state.since_start:
        return _with(state, tried=tried, since_start=_less(state.since_start, report))
    failed = list(state.failed_starts)
    for at in range(len(failed) - 1, -1, -1):
        if report in failed[at]:
            failed[at] = _less(failed[at], report)
            break
    return _with(state, tried=tried, failed_starts=tuple(failed))


def _less(reports: tuple[Report, ...], report: Report) -> tuple[Report, ...]:
    """Without the newest that is equal."""
    number = max(at for at, other in enumerate(reports) if other == report)
    return (*reports[:number], *reports[number + 1 :])


def _watched(state: CaseState) -> Watched | None:
    """What the newest test start tells, where it is under watch."""
    if not state.starts or not state.starts[-1].watch:
        return None
    failed = [start.hours for start in state.starts if not start.watch and start.hours]
    usual = sum(failed) / len(failed) if failed else USUAL_HOURS
    return Watched(state.since_start, state.starts[-1].hours or 0.0, usual)


def _start_back(state: CaseState) -> CaseState:
    """Without the newest test start; what was done before it waits for one again."""
    *starts, last = state.starts
    if last.works:
        return _with(state, starts=tuple(starts))
    if last.watch:
        before = _with(state, starts=tuple(starts))
        return _with(before, watched=_watched(before))
    *failed, since_before = state.failed_starts
    since = (*since_before, *state.since_start)
    return _with(state, starts=tuple(starts), failed_starts=tuple(failed), since_start=since)


def _after_words(state: CaseState, event: Heard) -> CaseState:
    """An answer that was chosen is not changed by words."""
    chosen = set(state.seen) - state.heard
    signs = {name: answer for name, answer in event.signs.items() if name not in chosen}
    facts = {name: answer for name, answer in event.facts.items() if name not in state.facts}
    return _with(
        state,
        seen={**state.seen, **signs},
        facts={**state.facts, **facts},
        heard=state.heard | set(signs),
        passed=state.passed - set(signs) - set(facts),
        codes=(*state.codes, *event.codes),
        said=(*state.said, event),
    )


def _without(state: CaseState, undo_point: str) -> CaseState:
    """What was undone counts as never done, so that it can be planned again."""
    gone = [attempt for attempt in state.tried if attempt.undo_point == undo_point]
    steps = {attempt.step for attempt in gone}
    return _with(
        state,
        undo_points=tuple(point for point in state.undo_points if point != undo_point),
        tried=tuple(attempt for attempt in state.tried if attempt not in gone),
        since_start=tuple(report for report in state.since_start if report.step not in steps),
        trace=None,
    )


def _answers(
    old: Mapping[str, str], passed: frozenset[str], new: Mapping[str, str]
) -> tuple[dict[str, str], frozenset[str]]:
    """Newer answers replace older ones; `unknown` takes an answer back."""
    merged = {name: answer for name, answer in {**old, **new}.items() if answer != UNKNOWN}
    asked = {name for name, answer in new.items() if answer == UNKNOWN}
    return merged, (passed | asked) - set(merged)


def _with(state: CaseState, **changes: object) -> CaseState:
    return msgspec.structs.replace(state, **changes)
