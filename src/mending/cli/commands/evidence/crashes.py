"""`mending crashes TARGET`"""

from pathlib import Path

import click

from mending.app.evidence import crashes_of
from mending.case import is_case, load_case
from mending.cli import options
from mending.cli.figures import draw_history, wanted_figure
from mending.cli.host import this_host
from mending.cli.show.console import emit
from mending.cli.show.crashes import show_crashes
from mending.disk.locked import GivenKey


@click.command("crashes")
@click.argument("target")
@click.option(
    "--check",
    is_flag=True,
    help="Exit 1 when the records tell of a crash or of a PC that restarts for ever.",
)
@options.figure("Draw the starts, failures, changes and restore points")
@options.locked
@options.as_json
@click.pass_context
def command(
    ctx: click.Context,
    target: str,
    check: bool,
    figure: str | None,
    force: bool,
    secret: GivenKey | None,
    as_json: bool,
) -> None:
    """What dumps and logs tell: crashes, how each start ended, when failing began, with which
    change. Reads only.

    TARGET is a file (a dump, a log, exported events, a capture of the screen or of a serial line, a
    list of restore points, the log of an automatic repair), a folder of them, a disk or image, a
    mounted system, or a case.
    """
    case = load_case(Path(target)) if is_case(Path(target)) else None
    disk = case.state.disk if case is not None else None
    picture = wanted_figure(figure, force, target, disk or target)
    result = crashes_of(target, case, this_host(), secret)
    draw_history(picture, result)
    emit(result, as_json, show_crashes)
    failed = any(start.ended == "crash" for start in result.starts)
    if check and (result.crashes or result.loops or failed):
        ctx.exit(1)
