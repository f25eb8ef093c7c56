"""A disk looked at: `trace`, `search`, `files`, `rehearse`."""

from pathlib import Path

import click

from mending.app.targets import NamedTarget
from mending.app.tracing import rehearse, search_target, trace
from mending.cli import options
from mending.cli.config import base_pack, this_host
from mending.cli.figures import draw, wanted_figure
from mending.cli.progress import bar, reading_shown
from mending.cli.show.tables import emit, named_target
from mending.cli.show.traces import show_files, show_rehearsal, show_search, show_trace
from mending.disk.locked import GivenKey
from mending.disk.opening import opened_to_read
from mending.model import Verdict
from mending.repair.files import check_files
from mending.source.portable import keep_no_memory


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
def trace_command(
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
        from mending.app.healthy import trace_against  # noqa: PLC0415 - lazy: seldom asked

        result = trace_against(result, found, against, sector)
    emit(result, as_json, lambda shown: show_trace(shown, base_pack(), target))
    maps = [] if result.map is None else [(named_target(result.target.path, target), result.map)]
    draw(picture, maps)
    if check and result.verdict != Verdict.NO_FAULT_FOUND:
        ctx.exit(1)


# `mending files TARGET`


@click.command("files")
@options.target_argument
@options.restore_from
@click.option(
    "--every",
    is_flag=True,
    help="Of the nt family: all programs, libraries and drivers, not only what the start needs.",
)
@options.locked
@click.option("--check", is_flag=True, help="Exit 1 unless every file is sound.")
@options.as_json
@click.pass_context
def files_command(
    ctx: click.Context,
    target: str,
    restore_from: Path | None,
    every: bool,
    secret: GivenKey | None,
    check: bool,
    as_json: bool,
) -> None:
    """Which files that a start needs are damaged? Those of Linux are compared with the sums of its
    packages; those of the nt family with what was signed of them, the catalogues of the system, and
    the sums in their headers. Reads only.
    """
    if secret is not None:
        keep_no_memory()
    with (
        opened_to_read(NamedTarget(target, this_host()).path) as source,
        bar("comparing", in_bytes=False) as told,
    ):
        result = check_files(source, restore_from, told, every=every, secret=secret)
    emit(result, as_json, lambda files: show_files(files, target))
    if check and result.files:
        ctx.exit(1)


# `mending search TARGET`


@click.command("search")
@options.target_argument
@options.sector
@options.locked
@options.figure("Also draw the disk map")
@options.as_json
def search_command(
    target: str,
    sector: int | None,
    secret: GivenKey | None,
    figure: str | None,
    force: bool,
    as_json: bool,
) -> None:
    """Look over the whole disk for volumes, also those that no table lists, and say how sure each
    one is. With a key, locked volumes are searched inside, too.
    """
    host = this_host()
    named = NamedTarget(target, host)
    picture = wanted_figure(figure, force, target, named.path)
    with bar("searching") as progress:
        result = search_target(named, sector, secret, progress)
    emit(result, as_json, lambda search: show_search(search, target))
    maps = [] if result.map is None else [(named_target(result.path, target), result.map)]
    draw(picture, maps)


# `mending rehearse TARGET`


@click.command("rehearse")
@options.target_argument
@options.sector
@options.as_json
def rehearse_command(target: str, sector: int | None, as_json: bool) -> None:
    """Run the disk's own boot code in an emulator: the screen, the sectors it reads, where it comes
    to rest. A case remembers the screen. No key is taken: the code runs on what firmware sees.
    """
    host = this_host()
    result = rehearse(NamedTarget(target, host), host, sector)
    emit(result, as_json, lambda rehearsal: show_rehearsal(rehearsal, target))
