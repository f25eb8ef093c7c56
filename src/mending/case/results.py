"""The documents that describe cases, as `docs/json.md` has them."""

from collections.abc import Mapping, Sequence

import msgspec

from mending.case.events import Closed
from mending.case.folder import Case
from mending.case.state import CaseState
from mending.case.thinking import causes_of
from mending.knowledge import Pack
from mending.model import REPAIRS, RepairId
from mending.reason import Contradiction, ReportKind, impossible_pairs, mended_chance

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
        understood: answers that were taken from it.
        codes: codes and messages that were found in it.
        left: what was not understood.
    """

    at: str
    text: str
    understood: Mapping[str, str]
    codes: tuple[str, ...]
    left: tuple[str, ...]


class ClosedResult(msgspec.Struct, frozen=True, kw_only=True):
    """How a case ended."""

    at: str
    cause: str
    fix: str
    put_back: Mapping[str, str]


class CaseResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="case/1"):
    """A case as it stands.

    Attributes:
        contradictions: answers that cannot both be right.
        next: the arguments of the command that makes sense now; empty where none does.
    """

    name: str
    folder: str
    opened: str
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
    closed: ClosedResult | None = None
    watched: WatchResult | None = None
    next: str = ""


class CasesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="cases/1"):
    """Several cases."""

    cases: tuple[CaseResult, ...]


def case_result(case: Case, pack: Pack | None = None) -> CaseResult:
    """The document of one case.

    Args:
        pack: to say which answers contradict each other.
    """
    state = case.state
    return CaseResult(
        name=case.file.name,
        folder=str(case.folder),
        opened=case.file.opened,
        facts=state.facts,
        notes=state.notes,
        seen=state.seen,
        codes=tuple(dict.fromkeys(code.words for code in state.codes)),
        said=tuple(
            SaidResult(
                at=said.at,
                text=said.text,
                understood={**said.signs, **said.facts},
                codes=tuple(code.words for code in said.codes),
                left=said.left,
            )
            for said in state.said
        ),
        disk=state.disk,
        failing_phase=state.trace.failing_phase if state.trace else None,
        tried=tuple(
            TriedResult(
                at=attempt.at,
                step=attempt.step,
                report=attempt.report,
                codes=attempt.codes,
                note=attempt.note,
            )
            for attempt in state.tried
        ),
        starts=tuple(
            StartResult(at=start.at, works=start.works, watch=start.watch, hours=start.hours)
            for start in state.starts
        ),
        undo_points=state.undo_points,
        works=state.works,
        warning=_TORN if case.torn else "",
        closed=_closed(state.closed),
        next=_next(case),
        watched=_watched(state, pack),
        contradictions=impossible_pairs(pack, state.seen) if pack is not None else (),
    )


def _watched(state: CaseState, pack: Pack | None) -> WatchResult | None:
    watched = state.watched
    if pack is None or watched is None or not state.under_watch:
        return None
    chance = mended_chance(pack, causes_of(state, pack).beliefs, watched)
    return WatchResult(
        hours=watched.hours,
        usual_hours=watched.usual_hours,
        told=any(start.hours and not start.watch for start in state.starts),
        mended=round(chance, 3),
    )


def _next(case: Case) -> str:
    state = case.state
    if state.closed is not None:
        return ""
    if state.works:
        return f"close {case.folder}"
    if any(report.kind is not ReportKind.NOT_RUN for report in state.since_start):
        return f"started {case.folder} yes|no"
    findings = state.trace.fatal if state.trace is not None else ()
    tried_steps = {attempt.step for attempt in state.tried}
    called_for = {repair for finding in findings for repair in finding.repairs}
    repairs = [
        repair
        for repair in RepairId
        if repair in called_for and REPAIRS[repair].step not in tried_steps
    ]
    if repairs:
        return f"mend {case.folder} {repairs[0] if len(repairs) == 1 else '--all'}"
    return f"{'plan' if state.seen or state.trace is not None else 'ask'} {case.folder}"


def _closed(event: Closed | None) -> ClosedResult | None:
    if event is None:
        return None
    return ClosedResult(at=event.at, cause=event.cause, fix=event.fix, put_back=event.put_back)


def cases_result(cases: Sequence[Case]) -> CasesResult:
    """The document of several cases."""
    return CasesResult(cases=tuple(case_result(case) for case in cases))
