"""The report of a case."""

from pathlib import Path

import msgspec

from mending.app.evidence import read_crashes
from mending.app.host import Host
from mending.app.undoing import points_result
from mending.case import Case, case_result, causes_of, crash_files, plan_of
from mending.knowledge import base_pack
from mending.model import RefusedError, has_extra
from mending.model.limits import WINDOW_BYTES
from mending.repair.journal import Journal
from mending.report.page import ReportInput, is_report, render_page
from mending.report.timeline_figure import timeline_svg
from mending.source import read_file, write_durably


class ReportResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="report/1"):
    """The page that was written."""

    file: str
    bytes: int


def write_report(case: Case, output: str, host: Host) -> ReportResult:
    """Write one self-contained page about a case; an older report is replaced.

    Raises:
        RefusedError: something else is there under that name.
        InputError: it cannot be written.
    """
    page = render_page(_gathered(case, host)).encode("utf-8")
    path = Path(output)
    if path.exists():
        old = read_file(path, WINDOW_BYTES).decode("utf-8", errors="replace")
        if not is_report(old):
            raise RefusedError(
                f"{output} is there already and is no report.",
                "Choose another name, or move it away.",
            )
    write_durably(path, page)
    return ReportResult(file=output, bytes=len(page))


def _gathered(case: Case, host: Host) -> ReportInput:
    pack = base_pack()
    files = crash_files(case)
    crashes = read_crashes(str(case.folder), files) if files else None
    picture = b""
    if crashes is not None and crashes.starts and has_extra("matplotlib"):
        picture = timeline_svg(crashes)
    journal = Journal(case.undo_folder, host.key)
    points = points_result(list(journal.load().points), journal)
    return ReportInput(
        case=case_result(case, pack),
        trace=case.state.trace,
        crashes=crashes,
        picture=picture,
        causes=causes_of(case.state, pack),
        plan=plan_of(case.state, pack),
        points=points,
        made=host.clock(),
    )
