"""`mending copy DRIVE IMAGE`, `mending copy IMAGE --verify`"""

import click

from mending.app.copies.copy_checking import check_copy
from mending.app.copies.copying import copy_drive
from mending.cli import options
from mending.cli.progress import bar, worded_bar
from mending.cli.show.console import emit
from mending.cli.show.copies.drive import show_copy, show_copy_check
from mending.disk.imaging import Progress
from mending.model import UsageError


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
def command(
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
