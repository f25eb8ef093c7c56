"""`mending mend TARGET REPAIR`"""

import click

from mending.case import mended
from mending.cli import options, world
from mending.cli.show import emit, say, show_mend
from mending.cli.targets import Target, opened
from mending.knowledge import base_pack
from mending.model import RefusedError
from mending.repair import Leave, MendResult, carry_out, preview


@click.command("mend")
@options.target_argument
@click.argument("repair")
@click.option("--dry-run", is_flag=True, help="Show what would be written, and write nothing.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@click.option("--anyway", is_flag=True, help="Write although the present state would do.")
@click.option("--key-at-hand", is_flag=True, help="The recovery key of an encrypted volume can be typed in.")
@options.sector
@options.as_json
def command(
    target: str,
    repair: str,
    dry_run: bool,
    yes: bool,
    anyway: bool,
    key_at_hand: bool,
    sector: int | None,
    as_json: bool,
) -> None:
    """One offline repair: guards, what will be written, undo point, write, proof by a new trace."""
    found, leave = Target(target), Leave(anyway, key_at_hand)
    with opened(found.disk, sector) as source:
        planned = preview(repair, source, leave).result()
    if dry_run:
        emit(planned, as_json, show_mend)
        return
    if not yes:
        _confirm(planned, as_json)
    emit(write(found, repair, leave, sector), as_json, show_mend)


def write(target: Target, repair: str, leave: Leave, sector: int | None = None) -> MendResult:
    """Carry a repair out and let the target's case remember it."""
    with opened(target.disk, sector, for_writing=True) as source:
        planned = preview(repair, source, leave)
        result, after = carry_out(planned, source, target.undo_folder, world.now())
    if target.case is not None and result.undo_point is not None:
        target.case = mended(target.case, base_pack(), world.hand(), repair, result.undo_point, after)
    return result


def _confirm(planned: MendResult, as_json: bool) -> None:
    if as_json or not world.interactive():
        raise RefusedError(
            "Nothing was written: nobody can be asked here.", "Add --yes to write, or --dry-run to look."
        )
    say(show_mend(planned))
    click.confirm("Write it now?", abort=True)
