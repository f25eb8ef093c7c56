"""The report of a case, for one of its readers."""

import hashlib
import hmac
from datetime import tzinfo
from pathlib import Path

import msgspec

from mending.app.case_disk import vouched_disk
from mending.app.evidence import read_crashes
from mending.app.host import Host
from mending.app.mending import points_result
from mending.case import Case, cards_of, case_result, causes_of, crash_files, plan_of, work
from mending.case.events import Rehearsed
from mending.case.folder import GONE, without_private
from mending.case.reasoning import turns
from mending.case.state import CaseState
from mending.crash.results import CrashesResult
from mending.knowledge import Pack
from mending.model import UsageError, format_json, has_extra
from mending.repair.journal import Journal, PointsResult
from mending.report.document import HandOver, render_markdown, render_page
from mending.report.pages import (
    AS_FOUND,
    AS_IT_IS,
    READERS,
    STEPS,
    VISITS_SHOWN,
    Material,
    Pictures,
    hand_over,
    redacted,
)
from mending.source import Output, machine_key, settle_output

FORMATS = ("html", "md", "json")
__all__ = [
    "FORMATS",
    "READERS",
    "ReportResult",
    "Wish",
    "make_report",
    "report_form",
    "settle_report",
    "write_report",
]
_PICTURED = "technician"
_ENDINGS = {"html": "html", "htm": "html", "md": "md", "json": "json"}


class ReportResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="report/1"):
    """The report that was written: for whom, and how."""

    file: str
    bytes: int
    reader: str
    format: str
    redacted: bool


class Wish(msgspec.Struct, frozen=True, kw_only=True):
    """What report is wanted.

    Attributes:
        reader: one of `READERS`. form: one of `FORMATS`.
        redact: take out what is private.
        steps: only how the steps of the plan are done.
        zone: of all times; None: this machine's.
    """

    reader: str = READERS[0]
    form: str = FORMATS[0]
    redact: bool = False
    steps: bool = False
    zone: tzinfo | None = None


def report_form(name: str, form: str | None) -> str:
    """The format of a report by the file's ending, or the one that was said.

    Raises:
        UsageError: the ending is of something else.
    """
    ending = Path(name).suffix.lower().removeprefix(".")
    by_ending = _ENDINGS.get(ending) if ending else form or FORMATS[0]
    if by_ending is None or (form is not None and form != by_ending):
        raise UsageError(
            f"{name} does not end like {'a report' if by_ending is None else form}.",
            "Reports end in .html, .md or .json.",
        )
    return by_ending


def make_report(case: Case, pack: Pack, host: Host, wish: Wish) -> str:
    """The text of a report about a case.

    Raises:
        InputError, RefusedError
    """
    pictures = wish.reader == _PICTURED and wish.form == FORMATS[0]
    given = _gathered(case, pack, host, wish, pictures=pictures)
    report = hand_over(given, STEPS if wish.steps else wish.reader)
    report = redacted(report) if wish.redact else report
    return _rendered(msgspec.structs.replace(report, mark=_mark(case, host)), wish.form)


def settle_report(case: Case, name: str, host: Host, force: bool) -> Output:
    """Where a report goes. One that was written here of the same case is replaced.

    Raises:
        RefusedError: something else is there. InputError: the name cannot be used.
    """
    mark = f"report/1 {_mark(case, host)}".encode()
    in_json = f'"mark": "{_mark(case, host)}"'.encode()
    never = (str(case.folder), *(item.path for item in case.state.evidence if not item.copy))
    return settle_output(
        name, force=force, never=never, is_ours=lambda head: mark in head or in_json in head
    )


def write_report(case: Case, pack: Pack, output: Output, host: Host, wish: Wish) -> ReportResult:
    """Write a report about a case. Raises as `make_report` and `Output.write`."""
    data = make_report(case, pack, host, wish).encode("utf-8", "replace")
    output.write(data)
    return ReportResult(
        file=str(output.path),
        bytes=len(data),
        reader=wish.reader,
        format=wish.form,
        redacted=wish.redact,
    )


def _mark(case: Case, host: Host) -> str:
    """By which a report is known as one of this case; nobody else can tell the case from it."""
    named = f"{case.file.name} {case.file.opened}".encode("utf-8", "surrogateescape")
    return hmac.new(machine_key(host.key), named, hashlib.sha256).hexdigest()[:16]


def _rendered(report: HandOver, form: str) -> str:
    if form == "html":
        return render_page(report)
    if form == "md":
        return render_markdown(report)
    return format_json(report).decode() + "\n"


def _gathered(case: Case, pack: Pack, host: Host, wish: Wish, *, pictures: bool) -> Material:
    files = crash_files(case, host.key)
    disk, target = vouched_disk(case, host) if files else None, str(case.folder)
    if wish.redact:
        files = [
            msgspec.structs.replace(file, name=f"record {number}")
            for number, file in enumerate(files, 1)
        ]
        case, target = without_private(case, pack, frozenset({work.DONE})), GONE
    crashes = read_crashes(target, files, disk) if files else None
    journal = Journal(case.undo_folder, host.key)
    points = points_result(list(journal.load().points), journal)
    plan = plan_of(case.state, pack)
    given = Material(
        case=case_result(case, pack),
        pack=pack,
        found=case.state.found,
        trace=case.state.trace,
        rehearsals=_rehearsals(case.state),
        crashes=crashes,
        causes=causes_of(case.state, pack),
        turns=turns(case, pack),
        plan=plan,
        points=_without_paths(points) if wish.redact else points,
        put_back=work.to_put_back(case, pack),
        cards=cards_of(case.state, pack, plan.visits[:VISITS_SHOWN]),
        made=host.clock(),
        zone=wish.zone,
    )
    drawn = _pictures(given, crashes) if pictures and has_extra("matplotlib") else Pictures()
    return msgspec.structs.replace(given, pictures=drawn)


def _without_paths(points: PointsResult) -> PointsResult:
    """The undo points without the path of what they were made for."""
    rows = tuple(msgspec.structs.replace(point, path=GONE) for point in points.points)
    return msgspec.structs.replace(points, points=rows)


def _rehearsals(state: CaseState) -> list[tuple[str, Rehearsed]]:
    runs = []
    found, now = state.found_rehearsal, state.rehearsal
    if found is not None:
        runs.append((AS_FOUND, found))
    if now is not None and now != found:
        runs.append((AS_IT_IS, now))
    return runs


def _pictures(given: Material, crashes: CrashesResult | None) -> Pictures:
    from mending.report.figures import (  # noqa: PLC0415 - lazy: for pages only
        causes_picture,
        disk_picture,
        plan_picture,
        timeline_picture,
    )

    found, trace, title = given.found, given.trace, given.case.name
    maps = [("as it is now", trace.map)] if trace is not None and trace.map is not None else []
    if maps and found is not None and found.map is not None and found.map != maps[0][1]:
        maps.insert(0, ("as found", found.map))
    open_plan = given.plan.visits and given.case.closed is None and not given.case.works
    return Pictures(
        disk=disk_picture(maps, "svg", title).decode() if maps else "",
        causes=causes_picture(given.causes, given.turns, "svg", title).decode()
        if given.causes.causes
        else "",
        timeline=timeline_picture(crashes, "svg", title).decode()
        if crashes and crashes.starts
        else "",
        plan=plan_picture(given.plan, "svg", title).decode() if open_plan else "",
    )
