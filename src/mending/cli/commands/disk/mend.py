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
from mending.disk.healthy import HealthyCopy, load_copy
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
@click.option(
    "--mount",
    is_flag=True,
    help="Where a file needs new blocks, let this machine's driver for that volume work out what is"
    " written. Needs root.",
)
@click.option(
    "--replay", is_flag=True, help="With --mount: replay the journal of a volume left open, first."
)
@click.option(
    "--from",
    "taken_from",
    metavar="PLACE",
    type=click.Path(path_type=Path, exists=True),
    help="Where sound copies are: a healthy copy (`mending keep`), or a folder: a mounted sound"
    " system, or packages.",
)
@click.option("--unit", default="", metavar="NAME", help="For unit-off: the unit to turn off.")
@click.option("--other-pc", is_flag=True, help="With --from FILE: it may be of another PC.")
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
    mount: bool,
    replay: bool,
    taken_from: Path | None,
    unit: str,
    other_pc: bool,
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
    if replay and not mount:
        raise UsageError("--replay needs --mount.")
    path, host = wanted_figure(figure), this_host()
    found = NamedTarget(target, host, variables)
    settings = MendSettings(
        anyway=anyway,
        key_at_hand=key_at_hand,
        firmware=firmware or found.firmware,
        boot_options=found.boot_options,
        restore_from=taken_from if taken_from is not None and taken_from.is_dir() else None,
        healthy=_healthy(taken_from),
        unit=unit,
        other_pc=other_pc,
        mount=mount,
        replay=replay,
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


def _healthy(taken_from: Path | None) -> HealthyCopy | None:
    """The healthy copy that was named; a folder is none."""
    return load_copy(taken_from) if taken_from is not None and taken_from.is_file() else None


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
