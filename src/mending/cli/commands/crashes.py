"""`mending crashes TARGET`"""

from pathlib import Path

import click

from mending.case import crash_files, is_case, load_case
from mending.cli import options
from mending.cli.figures import draw_history, wanted_figure
from mending.cli.show import emit, show_crashes
from mending.crash import CrashesResult, FileRead, LogFile, Reader, analyse, log_files
from mending.knowledge import base_codes, base_events
from mending.source import open_source


@click.command("crashes")
@click.argument("target")
@click.option(
    "--check", is_flag=True, help="Exit 1 when the records tell of a crash or of a PC that restarts for ever."
)
@click.option("--figure", help="Draw the starts, failures, changes and restore points to this file (.png, .svg, .pdf).")
@options.as_json
@click.pass_context
def command(ctx: click.Context, target: str, check: bool, figure: str | None, as_json: bool) -> None:
    """What dumps and logs tell: crashes, how each start ended, when failing began, and with which change. Reads only.

    TARGET is a file (a dump, a log, exported events, a capture of the screen or of a serial line, a list of restore
    points, the log of an automatic repair), a folder of them, the folder of a mounted system, or a case.
    """
    picture = wanted_figure(figure)
    result = read_all(target, _logs(Path(target)))
    draw_history(picture, result)
    emit(result, as_json, show_crashes)
    if check and (result.crashes or result.loops or any(one.ended == "crash" for one in result.starts)):
        ctx.exit(1)


def read_all(target: str, files: list[LogFile]) -> CrashesResult:
    """Read every file and put together what they tell. Raises InputError."""
    codes = base_codes()
    reader, reads, count = Reader(codes, base_events()), list[FileRead](), 0
    for one in files:
        with open_source(str(one.path)) as source:
            reads += reader.read(one.name, source, one.modified)
            count += source.bytes_read
    return analyse(target, reads, count, codes)


def _logs(path: Path) -> list[LogFile]:
    if not is_case(path):
        return log_files(path)
    return crash_files(load_case(path))
