"""A disk mended, and that taken back: `mend`, `undo`."""

import contextlib
import os
import sys
from pathlib import Path
from typing import Any

import click

from mending.app.mending import (
    UndoWish,
    carry_out_repair,
    carry_out_repairs,
    drop_points,
    list_undo_points,
    opened_keys,
    plan_repair,
    plan_repairs,
    points_to_drop,
    undo,
)
from mending.app.targets import NamedTarget
from mending.cli import options
from mending.cli.config import interactive, this_host
from mending.cli.figures import draw, wanted_figure
from mending.cli.output import confirmed, note
from mending.cli.progress import bar
from mending.cli.show.repairs import maps_of, show_mend, show_mend_all, show_points
from mending.cli.show.tables import emit, say
from mending.disk.healthy import HealthyCopy, load_copy
from mending.disk.locked import GivenKey
from mending.model import RefusedError, UsageError
from mending.repair.base import MendSettings
from mending.repair.journal import Allowed, PointsResult
from mending.repair.run import MendAllResult, MendResult, PlannedSequence, Preview

_REFUSED, _WRITTEN_NOT_WELL = RefusedError.exit_status, 6


@click.command("mend")
@options.target_argument
@click.argument("repair", required=False, shell_complete=options.complete_repairs)
@click.option(
    "--all", "everything", is_flag=True, help="Every repair that the findings call for, one by one."
)
@click.option("--dry-run", is_flag=True, help="Show what would be written, and write nothing.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@click.option(
    "--anyway", is_flag=True, help="Write although the present state would do, or may be meant so."
)
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
@click.option(
    "--driver", default="", metavar="NAME", help="The driver, service or filter that is meant."
)
@click.option(
    "--hives",
    default="",
    metavar="PLACE",
    help="For hive-set: a folder on the system's volume, or the number of an earlier moment of it.",
)
@click.option(
    "--system", type=int, metavar="VOLUME", help="Which system is meant, by its volume's number."
)
@click.option(
    "--want",
    default="",
    metavar="WHAT",
    help="For start-setting: fewest-drivers, stop-stays, record-loaded, no-hybrid, usual.",
)
@click.option("--other-pc", is_flag=True, help="With --from FILE: it may be of another PC.")
@options.locked
@options.firmware
@options.variables
@options.sector
@options.figure("Also draw the disk map")
@options.as_json
@click.pass_context
def mend_command(
    ctx: click.Context,
    /,
    target: str,
    repair: str | None,
    everything: bool,
    dry_run: bool,
    yes: bool,
    variables: str | None,
    sector: int | None,
    figure: str | None,
    force: bool,
    as_json: bool,
    **allowed: Any,
) -> None:
    """One offline repair: guards, what will be written, undo point, write, proof by a new trace.

    Without REPAIR it shows those that the findings call for; with --all it does them one by one.
    """
    if repair is not None and everything:
        raise UsageError("A repair and --all do not go together.")
    if allowed["replay"] and not allowed["mount"]:
        raise UsageError("--replay needs --mount.")
    host = this_host()
    found = NamedTarget(target, host, variables)
    picture = wanted_figure(figure, force, target, found.path)
    settings = _settings(found, yes=yes, **allowed)
    planned: Preview | PlannedSequence
    with bar("searching") as progress:
        if repair is None:
            planned = plan_repairs(found, host, settings, sector, progress)
        else:
            planned = plan_repair(found, host, repair, settings, sector, progress)
    nothing = isinstance(planned, PlannedSequence) and not planned.previews
    looking = dry_run or (repair is None and not everything)
    result: MendResult | MendAllResult = planned.result()
    if not looking and not nothing:
        if not yes and not _confirmed(result, target, as_json):
            say("Nothing was written.")
            return
        if isinstance(planned, PlannedSequence):
            result = carry_out_repairs(found, host, planned, sector)
        else:
            result = carry_out_repair(found, host, planned, sector)
    try:
        _show(result, target, as_json)
        sys.stdout.flush()
    except OSError as error:
        if not result.done:
            raise
        _tell_written(result, error)
        ctx.exit(_status(result))
    steps = result.steps if isinstance(result, MendAllResult) else (result,)
    maps = [(f"{step.repair}: {name}", disk) for step in steps for name, disk in maps_of(step)]
    draw(picture, maps)
    if not looking and (status := _status(result)):
        ctx.exit(status)


def _tell_written(result: MendResult | MendAllResult, error: OSError) -> None:
    """Say that a repair was written where the rest of what there is to say could not be given
    out.
    """
    steps = result.steps if isinstance(result, MendAllResult) else (result,)
    points = ", ".join(step.undo_point or "" for step in steps)
    with contextlib.suppress(OSError):
        says = f"Standard output cannot be used: {error.strerror}."
        note(f"mending: {says} The repair was written; undo point: {points}.", err=True)
    sys.stdout = open(os.devnull, "w")  # noqa: PTH123, SIM115 - what is left in it goes nowhere


def _status(result: MendResult | MendAllResult) -> int:
    """The exit status of a repair that was to be written: refused where nothing was and something
    was called for, or the PC fails as before; where something was written, whether all is well now.
    """
    refused = result.refused if isinstance(result, MendAllResult) else ()
    if not result.done:
        return _REFUSED if refused or result.failing_after is not None else 0
    return _WRITTEN_NOT_WELL if refused or result.failing_after is not None else 0


def _settings(
    found: NamedTarget,
    taken_from: Path | None,
    secret: GivenKey | None,
    firmware: str | None,
    **plain: Any,
) -> MendSettings:
    """What the options allow. Args: plain: those that are settings as they are."""
    return MendSettings(
        firmware=firmware or found.firmware,
        boot_options=found.boot_options,
        restore_from=taken_from if taken_from is not None and taken_from.is_dir() else None,
        healthy=_healthy(taken_from),
        keys=opened_keys(secret),
        **plain,
    )


def _healthy(taken_from: Path | None) -> HealthyCopy | None:
    """The healthy copy that was named; a folder is none."""
    return load_copy(taken_from) if taken_from is not None and taken_from.is_file() else None


def _show(result: MendResult | MendAllResult, named: str, as_json: bool) -> None:
    if isinstance(result, MendAllResult):
        emit(result, as_json, lambda sequence: show_mend_all(sequence, named))
    else:
        emit(result, as_json, show_mend)


def _confirmed(planned: MendResult | MendAllResult, named: str, as_json: bool) -> bool:
    if as_json or not interactive():
        raise RefusedError(
            "Nothing was written: nobody can be asked here.",
            "Add --yes to write, or --dry-run to look.",
        )
    if isinstance(planned, MendAllResult):
        say(show_mend_all(planned, named))
    else:
        say(show_mend(planned))
    return confirmed("Write it now?")


# `mending undo TARGET [POINT]`


@click.command("undo")
@options.target_argument
@click.argument("point", required=False, shell_complete=options.complete_points)
@click.option("--list", "listing", is_flag=True, help="List the undo points of this target.")
@click.option("--redo", is_flag=True, help="Do again what was undone.")
@click.option("--drop", is_flag=True, help="Let go of the point named, or of all that were undone.")
@click.option("--yes", is_flag=True, help="Drop without asking.")
@click.option(
    "--used-since", is_flag=True, help="The target was used since, so its content may differ."
)
@click.option("--made-elsewhere", is_flag=True, help="Believe a point that another machine made.")
@options.as_json
def undo_command(
    target: str,
    point: str | None,
    listing: bool,
    redo: bool,
    drop: bool,
    yes: bool,
    used_since: bool,
    made_elsewhere: bool,
    as_json: bool,
) -> None:
    """Put back what a repair changed: the newest undo point, or the one named.

    POINT is a name of the list, or the path of an undo point's folder.
    """
    if listing + redo + drop > 1:
        raise UsageError("--list, --redo and --drop do not go together.")
    host = this_host()
    found = NamedTarget(target, host)
    result: PointsResult | None
    if listing:
        result = list_undo_points(found, host, Allowed(used_since))
    elif drop:
        result = _drop(found, point, yes, as_json)
    else:
        result = undo(found, host, UndoWish(point, redo, Allowed(used_since, made_elsewhere)))
    if result is not None:
        emit(result, as_json, show_points)


def _drop(found: NamedTarget, point: str | None, yes: bool, as_json: bool) -> PointsResult | None:
    host = this_host()
    points = points_to_drop(found, host, point)
    if not yes:
        if as_json or not interactive():
            raise RefusedError("Nothing was dropped: nobody can be asked here.", "Add --yes.")
        for each in points:
            say(f"{each.file.id} ({each.state.state})")
        if not confirmed("Let go of them? What they changed cannot be undone then."):
            say("Nothing was let go of.")
            return None
    return drop_points(found, host, points)
