"""Records of crashes read, and gathered to be sent: `crashes`, `gather`."""

from pathlib import Path

import click
from rich.console import Group, RenderableType

from mending.app.evidence import crashes_of
from mending.app.gathering import LIMIT, GatherResult, gather, refuse_no_disk
from mending.app.targets import NamedTarget
from mending.case import is_case, load_case
from mending.cli import options
from mending.cli.config import this_host
from mending.cli.figures import draw_history, wanted_figure
from mending.cli.progress import bar
from mending.cli.show.crashes import show_crashes
from mending.cli.show.tables import emit, indented, rows, size, text, title
from mending.disk.locked import GivenKey
from mending.source import settle_output


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
def crashes_command(
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


# `mending gather TARGET -o FILE`


_MB = 1 << 20


@click.command("gather")
@options.target_argument
@options.output("The bundle to write, a ZIP; else beside you, named after the target.")
@click.option(
    "--limit",
    default=LIMIT // _MB,
    show_default=True,
    type=click.IntRange(1, 500),
    metavar="MB",
    help="How large it may become; large files are left out first.",
)
@options.as_json
def gather_command(
    target: str, output: Path | None, force: bool, limit: int, as_json: bool
) -> None:
    """Just what diagnosis needs of a disk, in one file to send on: what a trace and the crash
    records are read from, a list of the boot files, sums of it all. No personal files, no
    passwords. `trace`, `crashes` and the other reading commands take it as a target. Reads only.
    """
    named = NamedTarget(target, this_host())
    refuse_no_disk(named.path, limit * _MB)
    place = output or Path(f"{Path(target.rstrip('/')).stem or 'pc'}-gathered.zip")
    out = settle_output(place, force=force, never=(target, named.path))
    with bar("gathering"):
        result = gather(named, out, limit * _MB)
    emit(result, as_json, _show)


def _show(result: GatherResult) -> RenderableType:
    cells: list[tuple[object, ...]] = [
        ("holds", f"{size(result.kept_bytes)} of the disk in {result.ranges} ranges"),
        ("lists", f"{result.listed} boot files with their sums"),
        ("sha-256", result.sha256),
    ]
    cells += [("left out", each) for each in result.left_out]
    says = "a trace of it reads as one of the disk"
    if not result.answers:
        says = "holds less than a trace reads; trace and crashes of it give the disk's own answer"
        says += (
            "; a larger --limit takes more"
            if any("limit" in each for each in result.left_out)
            else ""
        )
    cells.append(("checked", says))
    tip = text(
        "Look into it before it is sent: it is a ZIP, bundle.json says what is in it.", "soft"
    )
    head = title(f"{result.file}: {size(result.bytes)}")
    return Group(head, indented(rows(cells, wide=1)), tip)
