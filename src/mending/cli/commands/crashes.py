"""`mending crashes TARGET`"""

from pathlib import Path

import click

from mending.case import Case, crash_files, is_case, load_case
from mending.cli import options
from mending.cli.figures import draw_history, wanted_figure
from mending.cli.records import read_all, read_case
from mending.cli.show import emit, show_crashes
from mending.crash import LogFile, log_files


@click.command("crashes")
@click.argument("target")
@click.option(
    "--check", is_flag=True, help="Exit 1 when the records tell of a crash or of a PC that restarts for ever."
)
@click.option("--figure", help="Draw the starts, failures, changes and restore points to this file (.png, .svg, .pdf).")
@options.as_json
@click.pass_context
def command(ctx: click.Context, target: str, check: bool, figure: str | None, as_json: bool) -> None:
    """What dumps and logs tell: crashes, how each start ended, when failing began, with which change. Reads only.

    TARGET is a file (a dump, a log, exported events, a capture of the screen or of a serial line, a list of restore
    points, the log of an automatic repair), a folder of them, a disk or image, a mounted system, or a case.
    """
    picture = wanted_figure(figure)
    path = Path(target)
    case = load_case(path) if is_case(path) else None
    result = read_all(target, [*crash_files(case), *_of_disk(case)] if case else log_files(path))
    if case:
        read_case(case, result)
    draw_history(picture, result)
    emit(result, as_json, show_crashes)
    if check and (result.crashes or result.loops or any(one.ended == "crash" for one in result.starts)):
        ctx.exit(1)


def _of_disk(case: Case) -> list[LogFile]:
    """The records on the disk of a case, besides those that were attached."""
    return log_files(Path(case.state.disk)) if case.state.disk else []
