"""`mending report CASE -o FILE`"""

from pathlib import Path

import click
import msgspec

from mending.case import Case, case_result, causes_of, crash_files, load_case, plan_of
from mending.cli import options, world
from mending.cli.commands.undo import row
from mending.cli.records import read_all
from mending.cli.show import emit
from mending.cli.show.console import text
from mending.knowledge import base_pack
from mending.model import RefusedError, has_extra
from mending.model.limits import WINDOW_BYTES
from mending.repair import PointsResult, load_points
from mending.report import ReportInput, is_report, render_page, timeline_svg
from mending.source import read_file, write_durably


class ReportResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="report/1"):
    """The page that was written."""

    file: str
    bytes: int


@click.command("report")
@options.case_argument
@click.option("-o", "--output", required=True, metavar="FILE", help="The page to write; an older report is replaced.")
@options.as_json
def command(case: str, output: str, as_json: bool) -> None:
    """One self-contained page about a case: phases, findings, causes, plan, what was tried, undo points."""
    page = render_page(_gathered(load_case(Path(case)))).encode("utf-8")
    path = Path(output)
    if path.exists() and not is_report(read_file(path, WINDOW_BYTES).decode("utf-8", errors="replace")):
        raise RefusedError(f"{output} is there already and is no report.", "Choose another name, or move it away.")
    write_durably(path, page)
    result = ReportResult(file=output, bytes=len(page))
    emit(result, as_json, lambda one: text(f"Written: {one.file} ({one.bytes} bytes)"))


def _gathered(case: Case) -> ReportInput:
    pack = base_pack()
    files = crash_files(case)
    crashes = read_all(str(case.folder), files) if files else None
    picture = timeline_svg(crashes) if crashes and crashes.starts and has_extra("matplotlib") else b""
    points = PointsResult(points=tuple(row(one) for one in load_points(case.undo_folder)))
    return ReportInput(
        case=case_result(case), trace=case.state.trace, crashes=crashes, picture=picture,
        causes=causes_of(case.state, pack), plan=plan_of(case.state, pack), points=points, made=world.now(),
    )  # fmt: skip
