"""The state of a case: its events, folded.

Nothing but events is ever stored. The state is what a function of them gives, event by event from
the first on, and it is worked out anew at every reading; so a state cannot disagree with its
record, an older program's record gets what a newer one understands of it, and an undo is an event
like any other. What was taken back is left out before folding, as if it had never been said.
"""

from collections.abc import Mapping, Sequence

import msgspec

from mending.boot.chain import Trace
from mending.case.events import (
    Added,
    AnyEvent,
    Checked,
    Closed,
    HandedOver,
    Heard,
    Learned,
    Listed,
    Mended,
    Noted,
    PassedOver,
    PutBack,
    Read,
    Rehearsed,
    Reopened,
    Saw,
    Started,
    TakenBack,
    Traced,
    Tried,
    Visiting,
)
from mending.crash.screens import SeenCode, clues_of_codes
from mending.knowledge import UNKNOWN, Pack, ReportKind
from mending.model import REPAIRS, Finding, RepairId, Risk
from mending.reason import AFTER_LOGO, Evidence, Report, Watched
from mending.source import Identity

_BY_CLASS = "code-suggests-"
"""Clues to what a code of the records stands for, where its own row does not tell."""
USUAL_HOURS = 24.0
"""After how many hours trouble that comes and goes comes again, where nobody told."""


class CaseState(msgspec.Struct, frozen=True, kw_only=True):
    """What is known about a case now.

    Attributes:
        facts: answers to facts, `unknown` left out.
        screens: what the screen showed before what `seen` tells of it, in its order.
        heard: signs whose answers were understood from what somebody said.
        said: everything that was said in whole sentences.
        codes: codes and messages that a screen showed.
        questions: how many of `work` were answered or passed over before the first step.
        passed: questions that were asked and could not be answered.
        shop: the fields that a workshop keeps.
        attached: the disk or image, as it was attached and is known by now; None without one.
        further: other disks of the PC, each as it was attached last.
        trace: the newest trace; None before the first, and after every write until the next.
        found: the newest trace of the disk as it was before anything was written.
        rehearsal: the newest run of the disk's own boot code; None before the first, and after
            every write until the next. found_rehearsal: the newest before anything was written.
        clues: what the crash records show, as they were read last; recorded: the codes in them.
        tried: steps in the order in which they were done.
        starts: test starts, newest last.
        worked: what was done before the newest test start, where that one succeeded.
        watched: the newest test start, where it is under watch.
        visit: the steps that are being done in one place; None between visits.
        in_visit: what was done of them, and what it reported.
        remarks: what somebody wanted to be remembered.
        listed: the lines of the newest listing of volumes; chosen: by role the one that somebody
            named.
        checked: by subject what was said on the way to closing.
        handed_over: who goes on with it; None while it is here.
        closed: how it ended; None while it is open.
    """

    facts: Mapping[str, str] = {}
    notes: Mapping[str, str] = {}
    shop: Mapping[str, str] = {}
    seen: Mapping[str, str] = {}
    screens: tuple[str, ...] = ()
    heard: frozenset[str] = frozenset()
    said: tuple[Heard, ...] = ()
    codes: tuple[SeenCode, ...] = ()
    questions: int = 0
    passed: frozenset[str] = frozenset()
    evidence: tuple[Added, ...] = ()
    attached: Added | None = None
    further: tuple[Added, ...] = ()
    trace: Trace | None = None
    found: Trace | None = None
    rehearsal: Rehearsed | None = None
    found_rehearsal: Rehearsed | None = None
    clues: tuple[Finding, ...] = ()
    recorded: tuple[SeenCode, ...] = ()
    tried: tuple[Tried, ...] = ()
    starts: tuple[Started, ...] = ()
    failed_starts: tuple[tuple[Report, ...], ...] = ()
    since_start: tuple[Report, ...] = ()
    worked: tuple[Report, ...] = ()
    watched: Watched | None = None
    undo_points: tuple[str, ...] = ()
    visit: Visiting | None = None
    in_visit: tuple[tuple[str, ReportKind], ...] = ()
    remarks: tuple[Noted, ...] = ()
    listed: tuple[str, ...] = ()
    chosen: Mapping[str, str] = {}
    checked: Mapping[str, str] = {}
    handed_over: HandedOver | None = None
    closed: Closed | None = None

    @property
    def disk(self) -> str | None:
        """Path of the disk or image, as it was when it was attached; None without one."""
        return None if self.attached is None else self.attached.path

    @property
    def begun(self) -> bool:
        """Whether a step was done since the case was opened."""
        return any(not attempt.told for attempt in self.tried)

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
            screens=self.screens,
            heard=self.heard & set(self.seen),
            trace=self.found if self.works else self.trace,
            clues=self._clues(),
            codes=(*self.codes, *self.recorded),
            reports=reports,
            failed_starts=self.failed_starts,
            watched=self.watched,
            worked=self.worked if self.works else (),
        )

    def failed_again(self) -> "CaseState":
        """As it would be if a PC under watch failed now."""
        failed = (*self.failed_starts, self.since_start)
        return _with(self, failed_starts=failed, since_start=(), watched=None)

    def _clues(self) -> tuple[Finding, ...]:
        """What the records show, and what codes on a screen add to it."""
        known = {clue.id for clue in self.clues}
        seen = clues_of_codes(self.codes)
        read = [
            each for each in self.clues if not (self.recorded and each.id.startswith(_BY_CLASS))
        ]
        return (*read, *(clue for clue in seen if clue.id not in known))


def fold(events: Sequence[AnyEvent]) -> CaseState:
    """The state after all events. What was taken back by its number counts as never said."""
    state = CaseState()
    for number in still_counting(events):
        event = events[number]
        state = _after(state, event)
        if _is_asked(event) and not state.begun and state.visit is None:
            state = _with(state, questions=state.questions + 1)
    return state


def _is_asked(event: AnyEvent) -> bool:
    """Whether it is the answer to a question of `work`, or that there was none."""
    match event:
        case Learned() | Saw():
            return event.asked
        case Heard():
            return bool(event.about)
    return isinstance(event, PassedOver)


def still_counting(events: Sequence[AnyEvent]) -> list[int]:
    """The numbers of the events that were not taken back, in their order."""
    gone = _taken_back(events)
    return [number for number in range(len(events)) if number not in gone]


def _taken_back(events: Sequence[AnyEvent]) -> set[int]:
    """The numbers of events that count no more. Older records name a step, or the newest test
    start, in place of a number.
    """
    gone: set[int] = set()
    for number, event in enumerate(events):
        if isinstance(event, TakenBack):
            entry = event.entry if event.entry is not None else _meant(events[:number], event, gone)
            gone.add(-1 if entry is None else entry)
    return gone


def _meant(before: Sequence[AnyEvent], event: TakenBack, gone: set[int]) -> int | None:
    """The newest event that still counts, of those that an older record means."""
    for number in reversed(range(len(before))):
        each = before[number]
        is_meant = (
            isinstance(each, Tried) and each.step == event.step
            if event.step
            else isinstance(each, Started)
        )
        if is_meant and number not in gone:
            return number
    return None


def _after(state: CaseState, event: AnyEvent) -> CaseState:
    match event:
        case Learned():
            facts, passed = _answers(state.facts, state.passed, event.facts)
            notes, shop = {**state.notes, **event.notes}, {**state.shop, **event.shop}
            return _with(state, facts=facts, passed=passed, notes=notes, shop=shop)
        case Saw():
            seen, passed = _answers(state.seen, state.passed, event.signs)
            heard = state.heard - set(event.signs)
            codes = _codes(state, event.codes)
            screens = _screens(state, event.signs)
            return _with(state, seen=seen, passed=passed, heard=heard, codes=codes, screens=screens)
        case Heard():
            return _after_words(state, event)
        case Added():
            return _after_evidence(state, event)
        case Traced():
            found = state.found if state.undo_points else event.trace
            return _with(state, trace=event.trace, found=found)
        case Rehearsed():
            found_run = state.found_rehearsal if state.undo_points else event
            return _with(state, rehearsal=event, found_rehearsal=found_run)
        case Read():
            return _with(state, clues=event.clues, recorded=event.codes)
        case Listed():
            listed = event.lines or state.listed
            chosen = {**(state.chosen if event.more or not event.lines else {}), **event.chosen}
            return _with(state, listed=listed, chosen=chosen)
        case Noted():
            return _with(state, remarks=(*state.remarks, event))
        case PassedOver():
            return _with(state, passed=state.passed | {event.question})
        case Mended():
            points = (*state.undo_points, event.undo_point)
            state = _known_by(state, event.identity)
            return _with(state, undo_points=points, trace=None, rehearsal=None)
        case PutBack():
            return _known_by(_without(state, event.undo_point), event.identity)
        case _:
            return _after_work(state, event)


def _after_evidence(state: CaseState, event: Added) -> CaseState:
    """A disk that is the one from before keeps what was found on it; of another one nothing is
    known yet.
    """
    state = _with(state, evidence=(*state.evidence, event))
    if event.sort == "further-disk":
        others = (each for each in state.further if each.path != event.path)
        return _with(state, further=(*others, event))
    if event.sort != "disk":
        return state
    state = _with(state, attached=event, trace=None, rehearsal=None)
    if event.same:
        return state
    return _with(state, found=None, found_rehearsal=None, undo_points=())


def _known_by(state: CaseState, identity: Identity | None) -> CaseState:
    """The disk of the case is known by something else since it was written to."""
    known = state.attached
    if identity is None or known is None or known.outside is None:
        return state
    outside = msgspec.structs.replace(known.outside, identity=identity)
    return _with(state, attached=msgspec.structs.replace(known, outside=outside))


def _after_work(state: CaseState, event: AnyEvent) -> CaseState:
    """After what moves a case on: steps, test starts, its end."""
    match event:
        case Visiting():
            return _with(state, visit=event, in_visit=())
        case Tried():
            done = (*state.since_start, Report(event.step, event.report))
            state = _with(state, in_visit=(*state.in_visit, (event.step, event.report)))
            tried = (*state.tried, event)
            return _with(state, tried=tried, since_start=done, checked={}, handed_over=None)
        case Started():
            return _after_start(state, event)
        case Checked():
            return _with(state, checked={**state.checked, event.about: event.says})
        case HandedOver():
            return _with(state, handed_over=event)
        case Closed():
            return _with(state, closed=event)
        case Reopened():
            return _with(state, closed=None, handed_over=None, checked={})
    return state


def _after_start(state: CaseState, event: Started) -> CaseState:
    starts = (*state.starts, event)
    state = _with(state, starts=starts, visit=None, in_visit=(), checked={})
    state = _with(state, handed_over=None)
    if event.watch:
        return _with(state, watched=_watched(state))
    if event.works:
        return _with(state, worked=state.since_start, since_start=(), watched=None)
    if state.worked and not state.since_start:  # what seemed to help did not hold
        failed = (*state.failed_starts, state.worked)
        return _with(state, failed_starts=failed, worked=(), watched=None)
    return _with(state.failed_again(), worked=())


def _watched(state: CaseState) -> Watched | None:
    """What the newest test start tells, where it is under watch."""
    if not state.starts or not state.starts[-1].watch:
        return None
    failed = [start.hours for start in state.starts if not start.watch and start.hours]
    usual = sum(failed) / len(failed) if failed else USUAL_HOURS
    return Watched(state.since_start, state.starts[-1].hours or 0.0, usual)


def _after_words(state: CaseState, event: Heard) -> CaseState:
    """An answer that was chosen is not changed by words, nor is a report of a step."""
    done = {attempt.step for attempt in state.tried}
    told = [
        Tried(at=event.at, step=step, report=report, told=True)
        for step, report in event.tried.items()
        if step not in done
    ]
    failed = tuple(Report(each.step, each.report) for each in told if each.step in event.failed)
    chosen = set(state.seen) - state.heard
    signs = {name: answer for name, answer in event.signs.items() if name not in chosen}
    facts = {name: answer for name, answer in event.facts.items() if name not in state.facts}
    return _with(
        state,
        seen={**state.seen, **signs},
        screens=_screens(state, signs, event.before),
        facts={**state.facts, **facts},
        heard=state.heard | set(signs),
        passed=state.passed - set(signs) - set(facts),
        codes=_codes(state, event.codes),
        notes={**state.notes, event.about: event.text} if event.about else state.notes,
        said=(*state.said, event),
        tried=(*state.tried, *told),
        failed_starts=(*state.failed_starts, failed) if failed else state.failed_starts,
    )


def _screens(
    state: CaseState, signs: Mapping[str, str], before: Sequence[str] = ()
) -> tuple[str, ...]:
    """What was seen on the screen stays seen when something else comes after it."""
    now, then = signs.get(AFTER_LOGO), state.seen.get(AFTER_LOGO)
    if now == UNKNOWN:
        return ()
    seen = [*state.screens, *([then] if now is not None and then is not None else []), *before]
    return tuple(each for each in dict.fromkeys(seen) if each != (now or then))


def _codes(state: CaseState, new: Sequence[SeenCode]) -> tuple[SeenCode, ...]:
    """A code that is told twice is one."""
    known = {code.words for code in state.codes}
    return (*state.codes, *(code for code in new if code.words not in known))


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
        rehearsal=None,
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


# What is pending in a case: the next step of a visit that was begun, a test start, a repair.


_CHANGED = {ReportKind.MENDED, ReportKind.DONE}


def next_step(state: CaseState, pack: Pack) -> str | None:
    """The next step of the visit that was begun; None where it is over."""
    if state.visit is None:
        return None
    reported = dict(state.in_visit)
    if ReportKind.FOUND in reported.values():
        return None  # what was found may call for something else
    not_run = {step for step, kind in reported.items() if kind is ReportKind.NOT_RUN}
    for planned in state.visit.steps:
        step = pack.steps.get(planned.step)
        if step is None or step.id in reported:
            continue
        if step.repair is not None and state.disk is None:
            continue  # planned behind the trace, but the disk did not come into the case
        if not not_run & {*step.after, *step.after_if_possible}:
            return step.id
    return None


def start_due(state: CaseState, pack: Pack) -> bool:
    """Whether a test start comes before anything else: something was changed, and the visit is
    over, a repair says that it mended something, or what comes next in it puts something at stake.
    """
    changed = [
        report
        for report in state.since_start
        if report.kind in _CHANGED and report.step in pack.steps and pack.steps[report.step].fixes
    ]
    if not changed or still_ours(state):
        return False
    step = next_step(state, pack)
    mended = any(report.kind is ReportKind.MENDED for report in changed)
    return step is None or mended or pack.steps[step].stakes is not Risk.NOTHING


def still_ours(state: CaseState) -> bool:
    """Whether the disk still cannot start for something that was not tried yet and that we mend."""
    tried = {attempt.step for attempt in state.tried}
    fatal = state.trace.fatal if state.trace is not None else ()
    called_for = {name for each in fatal for name in each.repairs}
    return any(REPAIRS[repair].step not in tried for repair in RepairId if repair in called_for)
