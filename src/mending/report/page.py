"""One self-contained HTML page: everything a colleague, the user or the maker's support has to
know.
"""

import base64
from collections.abc import Sequence

import msgspec
from jinja2 import Environment, PackageLoader, StrictUndefined

from mending.boot.chain import Trace, TraceCheck
from mending.case import CaseResult
from mending.crash.results import CrashesResult
from mending.model import Where, clean_text
from mending.plan import PlanResult
from mending.reason import CausesResult
from mending.repair.journal import PointsResult

_MARK = '<meta name="generator" content="mending report/1">'
_CAUSES_SHOWN = 6
_VISITS_SHOWN = 4


class ReportInput(msgspec.Struct, frozen=True, kw_only=True):
    """What goes into a page.

    Attributes:
        trace: None for a case without a disk.
        crashes: None for a case without crash records.
        picture: of the history, SVG; empty without one.
        made: RFC 3339.
    """

    case: CaseResult
    trace: Trace | None
    crashes: CrashesResult | None = None
    picture: bytes = b""
    causes: CausesResult
    plan: PlanResult
    points: PointsResult
    made: str


class ReportStep(msgspec.Struct, frozen=True):
    """One phase of the ladder."""

    name: str
    state: str
    checks: tuple[TraceCheck, ...]


def render_page(given: ReportInput) -> str:
    """The page as text. All evidence is escaped and freed of control characters."""
    environment = Environment(
        loader=PackageLoader("mending.report", "."),
        autoescape=True,
        undefined=StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
        finalize=_harmless,
    )
    environment.filters |= {
        "words": _words,
        "place": _place,
        "events": _events,
        "percent": _percent,
    }
    template = environment.get_template("page.html.j2")
    return template.render(
        mark=_MARK,
        given=given,
        crashes=given.crashes,
        picture=base64.b64encode(given.picture).decode(),
        verdict=_verdict(given),
        ladder=_ladder(given.trace),
        causes=[cause for cause in given.causes.causes if cause.chance >= 0.01][:_CAUSES_SHOWN],
        visits=given.plan.visits[:_VISITS_SHOWN],
        later=max(len(given.plan.visits) - _VISITS_SHOWN, 0),
    )


def is_report(text: str) -> bool:
    """Whether a file's text is a page that was made here, and may be replaced by a newer one."""
    return _MARK in text[:2000]


def _verdict(given: ReportInput) -> str:
    if given.case.works:
        return "The PC starts again."
    if given.case.watched is not None:
        return f"The PC starts, under watch: {given.case.watched.hours:g} hours so far."
    if given.trace is None:
        return "Not started yet; no disk has been looked at."
    if given.trace.failing_phase is not None:
        return f"The disk stops at: {_words(given.trace.failing_phase)}."
    return f"On the disk: {_words(given.trace.verdict)}."


def _ladder(trace: Trace | None) -> Sequence[ReportStep]:
    if trace is None:
        return ()
    return [
        ReportStep(
            _words(phase.id),
            phase.state,
            tuple(check for check in trace.checks if check.phase is phase.id),
        )
        for phase in trace.phases
    ]


def _events(case: CaseResult) -> list[tuple[str, str, str, str]]:
    """Steps and test starts in the order in which they happened."""
    steps = [
        (
            attempt.at,
            attempt.step,
            _words(attempt.report),
            " ".join([*attempt.codes, attempt.note]).strip(),
        )
        for attempt in case.tried
    ]
    starts = [(start.at, "test start", start.says, "") for start in case.starts]
    return sorted([*steps, *starts], key=lambda event: event[0])


def _percent(chance: float) -> str:
    return f"{chance:.0%}"


def _words(name: str) -> str:
    return str(name).replace("-", " ")


def _place(where: Where) -> str:
    parts = [where.path or "", f"offset {where.offset}" if where.offset is not None else ""]
    parts += [f"{where.length} bytes" if where.length else "", where.hex or ""]
    return ", ".join(part for part in parts if part)


def _harmless(value: object) -> object:
    """Plain strings lose control characters; what jinja has marked as safe markup is the template's
    own.
    """
    return clean_text(value, 2000) if type(value) is str else value
