"""Copies taken and compared: `copy`, `compare`, `keep`."""

from pathlib import Path

import click

from mending.app.healthy import compare, keep
from mending.app.targets import NamedTarget
from mending.cli import options
from mending.cli.config import this_host
from mending.cli.progress import bar, worded_bar
from mending.cli.show.copies import show_compare, show_copy, show_copy_check, show_keep
from mending.cli.show.tables import emit
from mending.disk.locked import GivenKey
from mending.imaging.checking import check_copy
from mending.imaging.copying import Progress, copy_drive
from mending.model import UsageError
from mending.source import settle_output


@click.command("copy")
@click.argument("drive")
@click.argument("image", required=False)
@click.option(
    "--first",
    multiple=True,
    metavar="WHAT",
    help="What comes first: a folder (/home/purser), a suffix (.odt) or a kind of files (documents,"
    " pictures, mail ...). Without it, the files of persons. May be given more than once.",
)
@click.option(
    "--effort",
    type=click.IntRange(0, 9),
    default=3,
    show_default=True,
    help="How often a place that fails is tried again, each time in smaller bites.",
)
@click.option(
    "--verify",
    is_flag=True,
    help="Read the image again and compare it with the sums of what was read of the drive. With an"
    " IMAGE alone that is all; with DRIVE and IMAGE what differs is read of the drive anew.",
)
@click.option("--check", is_flag=True, help="Exit 1 unless every byte is safe.")
@options.sector
@options.as_json
@click.pass_context
def copy_command(
    ctx: click.Context,
    drive: str,
    image: str | None,
    first: tuple[str, ...],
    effort: int,
    verify: bool,
    check: bool,
    sector: int | None,
    as_json: bool,
) -> None:
    """Take the most out of a failing drive: what starts the PC, then what its owner needs, then the
    rest. DRIVE is only read.

    It can be stopped at any moment: the same command goes on where it was, and asks the drive for
    nothing twice. Which bytes are safe stands in IMAGE.reading; every other command knows from it
    what was never read.
    """
    if verify and image is None:
        with bar("reading it again") as draw_bytes:
            checked = check_copy(drive, draw_bytes)
        emit(checked, as_json, show_copy_check)
        if check and (checked.lost or checked.unread):
            ctx.exit(1)
        return
    if image is None:
        raise UsageError("Give the DRIVE and the IMAGE that it is copied into.")
    with worded_bar("looking at what it holds") as draw:

        def told(now: Progress) -> None:
            draw(now.safe, now.total, now.says)

        def verified(done: int, total: int) -> None:
            draw(done, total, "reading the image again")

        again = verified if verify else None
        result = copy_drive(drive, image, first, effort, told, sector, again)
    emit(result, as_json, show_copy)
    if check and (result.unread or result.stopped):
        ctx.exit(1)


# `mending compare A B`


@click.command("compare")
@click.argument("first", metavar="A")
@click.argument("second", metavar="B")
@click.option("--all", "everything", is_flag=True, help="Every change, not the first of each kind.")
@options.locked
@click.option("--check", is_flag=True, help="Exit 1 where something differs that the start needs.")
@options.as_json
@click.pass_context
def compare_command(
    ctx: click.Context,
    first: str,
    second: str,
    everything: bool,
    secret: GivenKey | None,
    check: bool,
    as_json: bool,
) -> None:
    """What is otherwise in the settings of B: what the start depends on first, the rest counted.

    A and B are each a hive, a disk, DISK@N for the earlier moment N that a disk keeps (`mending
    trace DISK` names them), a healthy copy, a mounted system, a folder of hives or a case. Reads
    only.
    """
    result = compare(first, second, this_host(), secret)
    emit(result, as_json, lambda found: show_compare(found, everything=everything))
    if check and any(change.decides for change in result.changes):
        ctx.exit(1)


# `mending keep TARGET`


@click.command("keep")
@options.target_argument
@options.output("Where the copy goes; else beside you, named after the target.")
@click.option("--anyway", is_flag=True, help="Also where the PC does not start.")
@options.locked
@options.sector
@options.as_json
def keep_command(
    target: str,
    output: Path | None,
    force: bool,
    anyway: bool,
    secret: GivenKey | None,
    sector: int | None,
    as_json: bool,
) -> None:
    """Save what starts a healthy PC in one file: tables, boot code, boot files, settings, sums.

    Later `mending mend TARGET --all --from FILE` takes sound parts from it, and `mending trace
    TARGET --against FILE` says what has changed. Reads only; the file can be read by you alone.
    """
    host = this_host()
    named = NamedTarget(target, host)
    place = output or Path(f"{Path(target.rstrip('/')).stem or 'pc'}-healthy.zip")
    out = settle_output(place, force=force, never=(target, named.path))
    result = keep(named, out, host.clock(), anyway=anyway, sector=sector, secret=secret)
    emit(result, as_json, lambda kept: show_keep(kept, target))
