"""The documents that describe cases, as `docs/json.md` has them."""

from collections.abc import Iterator, Mapping, Sequence

import msgspec

from mending.case.events import Closed, Heard, Rehearsed, Tried
from mending.case.folder import Case, record
from mending.case.reasoning import causes_of
from mending.case.state import CaseState, next_step, start_due
from mending.knowledge import Pack
from mending.model import REPAIRS, Hand, RepairId, quoted
from mending.reason import AFTER_LOGO, Contradiction, impossible_pairs, mended_chance, tool_report

_TORN = "A crash left something unfinished at the end of the record; it was passed over."


class TriedResult(msgspec.Struct, frozen=True, kw_only=True):
    """A step that was done."""

    at: str
    step: str
    report: str
    codes: tuple[str, ...]
    note: str


class StartResult(msgspec.Struct, frozen=True, kw_only=True):
    """A test start."""

    at: str
    works: bool
    watch: bool = False
    hours: float | None = None

    @property
    def says(self) -> str:
        """The outcome in words."""
        ran = "" if self.hours is None else f", {self.hours:g} hours so far"
        if self.watch:
            return f"starts, under watch{ran}"
        if self.works:
            return "works"
        return "does not start" if self.hours is None else f"failed after {self.hours:g} hours"


class WatchResult(msgspec.Struct, frozen=True, kw_only=True):
    """A PC that starts and is under watch, for its trouble comes and goes.

    Attributes:
        hours: how long it has run since.
        usual_hours: after how many it used to fail.
        told: whether somebody told that, or it is only what is usual.
        mended: how likely what was done put it right.
    """

    hours: float
    usual_hours: float
    told: bool
    mended: float


class SaidResult(msgspec.Struct, frozen=True, kw_only=True):
    """What somebody said.

    Attributes:
        understood: answers that were taken from it, and reports of steps that were done before.
        codes: codes and messages that were found in it.
        left: what was not understood.
    """

    at: str
    text: str
    understood: Mapping[str, str]
    codes: tuple[str, ...]
    left: tuple[str, ...]


class RemarkResult(msgspec.Struct, frozen=True, kw_only=True):
    """What somebody wanted to be remembered; `about` is the step it belongs to, if any."""

    at: str
    text: str
    about: str


class HandedOverResult(msgspec.Struct, frozen=True, kw_only=True):
    """Who goes on with it, and the cause that was held to be the likeliest."""

    at: str
    to: str
    cause: str


class ClosedResult(msgspec.Struct, frozen=True, kw_only=True):
    """How a case ended; `minutes` of work, as somebody told."""

    at: str
    cause: str
    fix: str
    put_back: Mapping[str, str]
    minutes: float | None = None


class CaseResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="case/1"):
    """A case as it stands.

    Attributes:
        stands: `open`, `waiting` (for a test start, for time, for somebody else), `closed`.
        shop: the fields that a workshop keeps: ticket, user, maker, model, serial, technician.
        contradictions: answers that cannot both be right.
        next: the arguments of the command that makes sense now; empty where none does.
    """

    name: str
    folder: str
    opened: str
    stands: str
    shop: Mapping[str, str] = {}
    facts: Mapping[str, str]
    notes: Mapping[str, str]
    seen: Mapping[str, str]
    codes: tuple[str, ...] = ()
    said: tuple[SaidResult, ...] = ()
    disk: str | None
    failing_phase: str | None
    tried: tuple[TriedResult, ...]
    starts: tuple[StartResult, ...]
    undo_points: tuple[str, ...]
    works: bool
    warning: str = ""
    contradictions: tuple[Contradiction, ...] = ()
    remarks: tuple[RemarkResult, ...] = ()
    handed_over: HandedOverResult | None = None
    closed: ClosedResult | None = None
    watched: WatchResult | None = None
    next: str = ""


class CasesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="cases/1"):
    """Several cases."""

    cases: tuple[CaseResult, ...]


def case_result(case: Case, pack: Pack) -> CaseResult:
    """The document of one case. What was put into words is in it, however long."""
    state = case.state
    handed = state.handed_over
    return CaseResult(
        name=case.file.name,
        folder=str(case.folder),
        opened=case.file.opened,
        stands=_stands(state, pack),
        shop=state.shop,
        facts=state.facts,
        notes=state.notes,
        seen=state.seen,
        codes=tuple(dict.fromkeys(code.words for code in state.codes)),
        said=tuple(_said(said) for said in state.said),
        disk=state.disk,
        failing_phase=state.trace.failing_phase if state.trace else None,
        tried=tuple(_tried(attempt) for attempt in state.tried),
        starts=tuple(
            StartResult(at=start.at, works=start.works, watch=start.watch, hours=start.hours)
            for start in state.starts
        ),
        undo_points=state.undo_points,
        works=state.works,
        warning=_TORN if case.torn else "",
        remarks=tuple(
            RemarkResult(at=each.at, text=each.text, about=each.about) for each in state.remarks
        ),
        handed_over=(
            HandedOverResult(at=handed.at, to=handed.to, cause=handed.cause) if handed else None
        ),
        closed=_closed(state.closed),
        next=_next(case, pack),
        watched=_watched(state, pack),
        contradictions=impossible_pairs(pack, state.seen),
    )


def _said(said: Heard) -> SaidResult:
    return SaidResult(
        at=said.at,
        text=said.text,
        understood={**said.signs, **said.facts, **said.tried},
        codes=tuple(code.words for code in said.codes),
        left=said.left,
    )


def _tried(attempt: Tried) -> TriedResult:
    return TriedResult(
        at=attempt.at,
        step=attempt.step,
        report=attempt.report,
        codes=attempt.codes,
        note=attempt.note,
    )


def _stands(state: CaseState, pack: Pack) -> str:
    if state.closed is not None:
        return "closed"
    waits = state.handed_over is not None or state.under_watch or start_due(state, pack)
    return "waiting" if waits and not state.works else "open"


def _watched(state: CaseState, pack: Pack) -> WatchResult | None:
    watched = state.watched
    if watched is None or not state.under_watch:
        return None
    chance = mended_chance(pack, causes_of(state, pack).beliefs, watched)
    return WatchResult(
        hours=watched.hours,
        usual_hours=watched.usual_hours,
        told=any(start.hours and not start.watch for start in state.starts),
        mended=round(chance, 3),
    )


def _next(case: Case, pack: Pack) -> str:
    state = case.state
    if state.closed is not None:
        return ""
    if state.handed_over is not None:
        return f"close {quoted(case.folder)} --reopen"
    if state.works:
        return f"close {quoted(case.folder)}"
    if start_due(state, pack):
        return f"started {quoted(case.folder)} yes-or-no"
    findings = state.trace.fatal if state.trace is not None else ()
    tried_steps = {attempt.step for attempt in state.tried}
    called_for = {repair for finding in findings for repair in finding.repairs}
    repairs = [
        repair
        for repair in RepairId
        if repair in called_for and REPAIRS[repair].step not in tried_steps
    ]
    if repairs:
        return f"mend {quoted(case.folder)} {repairs[0] if len(repairs) == 1 else '--all'}"
    return f"{'plan' if state.seen or state.trace is not None else 'ask'} {quoted(case.folder)}"


def _closed(event: Closed | None) -> ClosedResult | None:
    if event is None:
        return None
    return ClosedResult(
        at=event.at,
        cause=event.cause,
        fix=event.fix,
        put_back=event.put_back,
        minutes=event.minutes,
    )


def cases_result(cases: Sequence[Case], pack: Pack) -> CasesResult:
    """The document of several cases."""
    return CasesResult(cases=tuple(case_result(case, pack) for case in cases))


# What new answers did to older ones, in sentences: nothing is replaced in silence.


def changes(
    before: CaseState, after: CaseState, pack: Pack, said: Sequence[str] = ()
) -> Iterator[str]:
    """One sentence for each answer that is another now, for a screen that is kept beside a later
    one, and for words that are rather the report of the step under way.
    """
    for name, answer in after.seen.items():
        was = before.seen.get(name)
        if was is None or was == answer:
            continue
        if name == AFTER_LOGO and was in after.screens:
            yield f"{name}: {was} came first and is kept, now {answer}; {name}=unknown drops both."
        else:
            yield f"{name}: it was {was}, now {answer}."
    for name, answer in after.facts.items():
        if before.facts.get(name, answer) != answer:
            yield f"{name}: it was {before.facts[name]}, now {answer}."
    yield from _apart(before, after, pack)
    under_way = next_step(after, pack)
    for text in said:
        if under_way is not None and tool_report(pack, text) is not None:
            yield f"If {under_way} said so, it is its report: mending tried CASE {under_way} ..."


def _apart(before: CaseState, after: CaseState, pack: Pack) -> Iterator[str]:
    """Answers of which one implies that the other is otherwise, where one of them is new."""
    new = {name for name, answer in after.seen.items() if before.seen.get(name) != answer}
    for name, answer in after.seen.items():
        row = pack.signs[name].answers.get(answer) if name in pack.signs else None
        for other, implied in (row.implies if row is not None else {}).items():
            told = after.seen.get(other, implied)
            if other in pack.signs and told != implied and {name, other} & new:
                yield f"{name}={answer} and {other}={told} do not go together: one is mistaken."


# What a case remembers of runs of its disk's own boot code.


def rehearsed(
    case: Case, hand: Hand, stopped: str, screen: Sequence[str], started_volume: bool
) -> Case:
    """Record how far the disk's own boot code got."""
    event = Rehearsed(
        at=hand.since, stopped=stopped, screen=tuple(screen), started_volume=started_volume
    )
    return record(case, hand, event)
