"""`mending keep TARGET`"""

from pathlib import Path

import click

from mending.app.copies.keeping import keep
from mending.app.targets import NamedTarget
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.show.console import emit
from mending.cli.show.copies.healthy import show_keep
from mending.disk.locked import GivenKey
from mending.source import settle_output


@click.command("keep")
@options.target_argument
@options.output("Where the copy goes; else beside you, named after the target.")
@click.option("--anyway", is_flag=True, help="Also where the PC does not start.")
@options.locked
@options.sector
@options.as_json
def command(
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
