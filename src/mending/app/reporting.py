"""The report of a case, for one of its readers."""

from collections.abc import Iterator
from datetime import tzinfo
from pathlib import Path

import msgspec

from mending.app.case_disk import vouched_disk
from mending.app.evidence import read_crashes
from mending.app.host import Host
from mending.app.undoing import points_result
from mending.case import Case, case_result, causes_of, closing, crash_files, plan_of
from mending.case.events import Rehearsed
from mending.case.state import CaseState
from mending.case.turns import turns
from mending.crash.results import CrashesResult
from mending.knowledge import Pack
from mending.model import RefusedError, encode_json, has_extra
from mending.model.limits import WINDOW_BYTES
from mending.repair.journal import Journal
from mending.report.document import HandOver
from mending.report.for_technician import AS_FOUND, AS_IT_IS
from mending.report.hand_over import READERS, hand_over
from mending.report.markdown import render_markdown
from mending.report.material import Material, Pictures
from mending.report.page import is_report, render_page
from mending.report.redact import redacted
from mending.source import read_file, write_durably

FORMATS = ("html", "md", "json")
__all__ = ["FORMATS", "READERS", "ReportResult", "write_report"]
_PICTURED = "technician"


class ReportResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="report/1"):
    """The report that was written: for whom, and how."""

    file: str
    bytes: int
    reader: str
    format: str
    redacted: bool


def write_report(
    case: Case,
    pack: Pack,
    output: str,
    host: Host,
    *,
    reader: str = READERS[0],
    form: str = FORMATS[0],
    redact: bool = False,
    zone: tzinfo | None = None,
) -> ReportResult:
    """Write a report about a case; an older one is replaced.

    Args:
        reader: one of `READERS`. form: one of `FORMATS`.
        redact: take out what is private.
        zone: of all times; None: this machine's.

    Raises:
        RefusedError: something else is there under that name.
        InputError: it cannot be written.
    """
    given = _gathered(case, pack, host, zone, pictures=reader == _PICTURED and form == FORMATS[0])
    report = hand_over(given, reader)
    if redact:
        report = redacted(report, _private(case, given))
    data = _rendered(report, form).encode("utf-8")
    path = Path(output)
    if path.exists():
        old = read_file(path, WINDOW_BYTES).decode("utf-8", errors="replace")
        if not is_report(old):
            raise RefusedError(
                f"{output} is there already and is no report.",
                "Choose another name, or move it away.",
            )
    write_durably(path, data)
    return ReportResult(file=output, bytes=len(data), reader=reader, format=form, redacted=redact)


def _rendered(report: HandOver, form: str) -> str:
    if form == "html":
        return render_page(report)
    if form == "md":
        return render_markdown(report)
    return msgspec.json.format(encode_json(report)).decode() + "\n"


def _gathered(
    case: Case, pack: Pack, host: Host, zone: tzinfo | None, *, pictures: bool
) -> Material:
    files = crash_files(case, host.key)
    disk = vouched_disk(case, host) if files else None
    crashes = read_crashes(str(case.folder), files, disk) if files else None
    journal = Journal(case.undo_folder, host.key)
    given = Material(
        case=case_result(case, pack),
        pack=pack,
        found=case.state.found,
        trace=case.state.trace,
        rehearsals=_rehearsals(case.state),
        crashes=crashes,
        causes=causes_of(case.state, pack),
        turns=turns(case, pack),
        plan=plan_of(case.state, pack),
        points=points_result(list(journal.load().points), journal),
        put_back=closing.to_put_back(case, pack),
        made=host.clock(),
        zone=zone,
    )
    drawn = _pictures(given, crashes) if pictures and has_extra("matplotlib") else Pictures()
    return msgspec.structs.replace(given, pictures=drawn)


def _rehearsals(state: CaseState) -> list[tuple[str, Rehearsed]]:
    runs = []
    found, now = state.found_rehearsal, state.rehearsal
    if found is not None:
        runs.append((AS_FOUND, found))
    if now is not None and now != found:
        runs.append((AS_IT_IS, now))
    return runs


def _pictures(given: Material, crashes: CrashesResult | None) -> Pictures:
    from mending.report.figures.causes_figure import causes_svg  # noqa: PLC0415 - lazy: as below
    from mending.report.figures.disk_figure import disk_svg  # noqa: PLC0415 - lazy: for pages
    from mending.report.figures.plan_figure import plan_svg  # noqa: PLC0415
    from mending.report.figures.timeline_figure import timeline_svg  # noqa: PLC0415

    found, trace = given.found, given.trace
    maps = [("as it is now", trace.map)] if trace is not None and trace.map is not None else []
    if maps and found is not None and found.map is not None and found.map != maps[0][1]:
        maps.insert(0, ("as found", found.map))
    open_plan = given.plan.visits and given.case.closed is None and not given.case.works
    return Pictures(
        disk=disk_svg(maps).decode() if maps else "",
        causes=causes_svg(given.causes, given.turns).decode() if given.causes.causes else "",
        timeline=timeline_svg(crashes).decode() if crashes and crashes.starts else "",
        plan=plan_svg(given.plan).decode() if open_plan else "",
    )


def _private(case: Case, given: Material) -> Iterator[str]:
    """Everything that is known to be private: fields of the shop, what somebody said or wrote,
    names of files, volumes and machines.
    """
    state, pack = case.state, given.pack
    yield from state.shop.values()
    yield case.file.name
    yield case.folder.name
    yield from state.notes.values()
    for said in state.said:
        yield said.text
        yield from said.left
    yield from (remark.text for remark in state.remarks)
    yield from (attempt.note for attempt in state.tried)
    yield from (start.note for start in state.starts)
    yield from (Path(item.path).name for item in state.evidence)
    yield from (item.copy for item in state.evidence if item.copy)
    if state.handed_over is not None:
        yield state.handed_over.to
    if state.closed is not None:
        known = {*pack.causes, *pack.steps, closing.DONE}
        words = [state.closed.cause, state.closed.fix, *state.closed.put_back.values()]
        yield from (each for each in words if each not in known)
    for trace in (state.found, state.trace):
        if trace is not None:
            yield Path(trace.target.path).name
            yield from (volume.label for volume in trace.volumes)
            yield from (system.title for system in trace.systems if system.family == "linux")
