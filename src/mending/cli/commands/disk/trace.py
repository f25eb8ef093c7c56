"""`mending trace TARGET`"""

from pathlib import Path

import click

from mending.app.targets import NamedTarget
from mending.app.tracing import trace
from mending.cli import options
from mending.cli.figures import draw, wanted_figure
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.reading_shown import reading_shown
from mending.cli.show.console import emit, named_target
from mending.cli.show.traces import show_trace
from mending.disk.locked import GivenKey
from mending.model import Verdict


@click.command("trace")
@options.target_argument
@click.argument(
    "others", nargs=-1, metavar="[DISK]...", type=click.Path(path_type=Path, exists=True)
)
@options.sector
@options.firmware
@options.variables
@click.option(
    "--against",
    metavar="FILE",
    type=click.Path(path_type=Path, exists=True, dir_okay=False),
    help="A healthy copy (`mending keep`): also say what has changed since.",
)
@options.locked
@click.option("--check", is_flag=True, help="Exit 1 unless no fault was found.")
@options.figure("Also draw the disk map")
@options.as_json
@click.pass_context
def command(
    ctx: click.Context,
    target: str,
    others: tuple[Path, ...],
    sector: int | None,
    firmware: str | None,
    variables: str | None,
    against: Path | None,
    secret: GivenKey | None,
    check: bool,
    figure: str | None,
    force: bool,
    as_json: bool,
) -> None:
    """Which phase of starting fails, check by check, and why. Reads only; a case remembers the
    result. Further disks of the same PC are named behind the one that it starts from.
    """
    host = this_host()
    found = NamedTarget(target, host, variables)
    picture = wanted_figure(figure, force, target, found.path)
    with reading_shown(found.path) as watch:
        result = trace(found, host, sector, firmware, secret, watch, others)
    if against is not None:
        from mending.app.copies.keeping import trace_against  # noqa: PLC0415 - lazy: seldom asked

        result = trace_against(result, found, against, sector)
    emit(result, as_json, lambda shown: show_trace(shown, base_pack(), target))
    maps = [] if result.map is None else [(named_target(result.target.path, target), result.map)]
    draw(picture, maps)
    if check and result.verdict != Verdict.NO_FAULT_FOUND:
        ctx.exit(1)
