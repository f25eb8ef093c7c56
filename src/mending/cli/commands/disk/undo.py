"""`mending undo TARGET [POINT]`"""

import click

from mending.app.targets import NamedTarget
from mending.app.undoing import UndoWish, drop_points, list_undo_points, points_to_drop, undo
from mending.cli import options
from mending.cli.echo import confirmed
from mending.cli.host import interactive, this_host
from mending.cli.show.console import emit, say
from mending.cli.show.repairs import show_points
from mending.model import RefusedError, UsageError
from mending.repair.journal import Allowed, PointsResult


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
def command(
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
