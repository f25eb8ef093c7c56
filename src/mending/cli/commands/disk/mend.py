"""`mending mend TARGET [REPAIR]`"""

from pathlib import Path

import click

from mending.app.mending import carry_out_repair, carry_out_repairs, plan_repair, plan_repairs
from mending.app.targets import NamedTarget
from mending.cli import options
from mending.cli.figures import draw, wanted_figure
from mending.cli.host import interactive, this_host
from mending.cli.progress import bar
from mending.cli.show.console import emit, say
from mending.cli.show.repairs import maps_of, show_mend, show_mend_all
from mending.model import RefusedError, UsageError
from mending.repair.base import MendSettings
from mending.repair.run import MendAllResult, MendResult, PlannedSequence, Preview


@click.command("mend")
@options.target_argument
@click.argument("repair", required=False)
@click.option(
    "--all", "everything", is_flag=True, help="Every repair that the findings call for, one by one."
)
@click.option("--dry-run", is_flag=True, help="Show what would be written, and write nothing.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@click.option("--anyway", is_flag=True, help="Write although the present state would do.")
@click.option(
    "--key-at-hand", is_flag=True, help="The recovery key of an encrypted volume can be typed in."
)
@options.restore_from
@options.firmware
@options.variables
@options.sector
@options.figure
@options.as_json
def command(
    target: str,
    repair: str | None,
    everything: bool,
    dry_run: bool,
    yes: bool,
    anyway: bool,
    key_at_hand: bool,
    restore_from: Path | None,
    firmware: str | None,
    variables: str | None,
    sector: int | None,
    figure: str | None,
    as_json: bool,
) -> None:
    """One offline repair: guards, what will be written, undo point, write, proof by a new trace.

    Without REPAIR it shows those that the findings call for; with --all it does them one by one.
    """
    if repair is not None and everything:
        raise UsageError("A repair and --all do not go together.")
    path, host = wanted_figure(figure), this_host()
    found = NamedTarget(target, host, variables)
    settings = MendSettings(
        anyway, key_at_hand, firmware or found.firmware, found.boot_options, restore_from
    )
    planned: Preview | PlannedSequence
    with bar("searching") as progress:
        if repair is None:
            planned = plan_repairs(found, settings, sector, progress)
        else:
            planned = plan_repair(found, repair, settings, sector, progress)
    nothing = isinstance(planned, PlannedSequence) and not planned.previews
    looking = dry_run or (repair is None and not everything)
    result: MendResult | MendAllResult = planned.result()
    if not looking and not nothing:
        if not yes:
            _confirm(result, target, as_json)
        if isinstance(planned, PlannedSequence):
            result = carry_out_repairs(found, host, planned, sector)
        else:
            result = carry_out_repair(found, host, planned, sector)
    _show(result, target, as_json)
    steps = result.steps if isinstance(result, MendAllResult) else (result,)
    draw(path, [(f"{step.repair}: {name}", disk) for step in steps for name, disk in maps_of(step)])


def _show(result: MendResult | MendAllResult, named: str, as_json: bool) -> None:
    if isinstance(result, MendAllResult):
        emit(result, as_json, lambda sequence: show_mend_all(sequence, named))
    else:
        emit(result, as_json, show_mend)


def _confirm(planned: MendResult | MendAllResult, named: str, as_json: bool) -> None:
    if as_json or not interactive():
        raise RefusedError(
            "Nothing was written: nobody can be asked here.",
            "Add --yes to write, or --dry-run to look.",
        )
    if isinstance(planned, MendAllResult):
        say(show_mend_all(planned, named))
    else:
        say(show_mend(planned))
    click.confirm("Write it now?", abort=True)
