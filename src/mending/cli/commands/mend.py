"""`mending mend TARGET [REPAIR]`"""

from pathlib import Path

import click

from mending.boot import Trace, trace_target
from mending.case import mended
from mending.cli import options, world
from mending.cli.figures import draw, wanted_figure
from mending.cli.progress import bar
from mending.cli.show import emit, maps_of, say, show_mend, show_mend_all
from mending.cli.targets import Target, opened_any
from mending.knowledge import base_pack
from mending.model import RefusedError, UsageError
from mending.repair import (
    Leave,
    MendAllResult,
    MendResult,
    carry_out,
    next_repair,
    preview,
    preview_all,
    reason,
    sum_up,
)


@click.command("mend")
@options.target_argument
@click.argument("repair", required=False)
@click.option("--all", "everything", is_flag=True, help="Every repair that the findings call for, one by one.")
@click.option("--dry-run", is_flag=True, help="Show what would be written, and write nothing.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@click.option("--anyway", is_flag=True, help="Write although the present state would do.")
@click.option("--key-at-hand", is_flag=True, help="The recovery key of an encrypted volume can be typed in.")
@options.restore_from
@options.firmware
@options.variables
@options.sector
@options.figure
@options.as_json
def command(
    target: str, repair: str | None, everything: bool, dry_run: bool, yes: bool, anyway: bool, key_at_hand: bool,
    restore_from: Path | None,
    firmware: str | None, variables: str | None, sector: int | None, figure: str | None, as_json: bool,
) -> None:  # fmt: skip
    """One offline repair: guards, what will be written, undo point, write, proof by a new trace.

    Without REPAIR it shows those that the findings call for; with --all it does them one by one.
    """
    if repair is not None and everything:
        raise UsageError("A repair and --all do not go together.")
    path = wanted_figure(figure)
    found = Target(target, variables)
    leave = Leave(anyway, key_at_hand, firmware or found.firmware, found.options, restore_from)
    looking = dry_run or (repair is None and not everything)
    with opened_any(found.disk, sector) as source, bar("searching") as told:
        planned = preview_all(source, leave, told) if repair is None else preview(repair, source, leave, told).result()
    if looking or (isinstance(planned, MendAllResult) and not planned.steps):
        result = planned
    else:
        if not yes:
            _confirm(planned, target, as_json)
        result = write(found, repair, leave, sector) if repair else _write_all(found, leave, sector)
    _show(result, target, as_json)
    steps = result.steps if isinstance(result, MendAllResult) else (result,)
    draw(path, [(f"{one.repair}: {name}", shown) for one in steps for name, shown in maps_of(one)])


def write(target: Target, repair: str, leave: Leave, sector: int | None = None) -> MendResult:
    """Carry a repair out and let the target's case remember it."""
    with opened_any(target.disk, sector, for_writing=True) as source, bar("searching") as told:
        planned = preview(repair, source, leave, told)
        result, after = carry_out(planned, source, target.undo_folder, world.now())
    if target.case is not None and result.undo_point is not None:
        target.case = mended(target.case, base_pack(), world.hand(), repair, result.undo_point, after)
    return result


def _write_all(target: Target, leave: Leave, sector: int | None) -> MendAllResult:
    """Every repair in turn, for good, traced in between; stops at the first that would not improve anything."""
    before = now = _trace(target, leave, sector)
    steps: list[MendResult] = []
    stopped = None
    while stopped is None and (repair := next_repair(now, steps)):
        try:
            steps.append(write(target, repair, leave, sector))
        except RefusedError as error:
            if not steps:
                raise
            stopped = reason(repair, error)
        now = _trace(target, leave, sector)
    return sum_up(steps, stopped, before, now, done=bool(steps))


def _trace(target: Target, leave: Leave, sector: int | None) -> Trace:
    with opened_any(target.disk, sector) as source:
        return trace_target(source, leave.firmware, leave.options)


def _show(result: MendResult | MendAllResult, named: str, as_json: bool) -> None:
    if isinstance(result, MendAllResult):
        emit(result, as_json, lambda one: show_mend_all(one, named))
    else:
        emit(result, as_json, show_mend)


def _confirm(planned: MendResult | MendAllResult, named: str, as_json: bool) -> None:
    if as_json or not world.interactive():
        raise RefusedError(
            "Nothing was written: nobody can be asked here.", "Add --yes to write, or --dry-run to look."
        )
    say(show_mend_all(planned, named) if isinstance(planned, MendAllResult) else show_mend(planned))
    click.confirm("Write it now?", abort=True)
