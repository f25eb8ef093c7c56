"""`mending copy DRIVE IMAGE`"""

import click

from mending.app.copying import copy_drive
from mending.cli import options
from mending.cli.progress import worded_bar
from mending.cli.show.console import emit
from mending.cli.show.copies.drive import show_copy
from mending.disk.imaging import Progress


@click.command("copy")
@click.argument("drive")
@click.argument("image")
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
@click.option("--check", is_flag=True, help="Exit 1 unless every byte is safe.")
@options.sector
@options.as_json
@click.pass_context
def command(
    ctx: click.Context,
    drive: str,
    image: str,
    first: tuple[str, ...],
    effort: int,
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
    with worded_bar("looking at what it holds") as draw:

        def told(now: Progress) -> None:
            draw(now.safe, now.total, now.says)

        result = copy_drive(drive, image, first, effort, told, sector)
    emit(result, as_json, show_copy)
    if check and (result.unread or result.stopped):
        ctx.exit(1)
