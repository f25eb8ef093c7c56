"""`mending undo TARGET [POINT]`"""

import click
import msgspec

from mending.boot import trace_target
from mending.case import put_back
from mending.cli import options, world
from mending.cli.show import emit, show_points
from mending.cli.targets import Target, opened_any
from mending.model import InputError, RefusedError
from mending.repair import Ground, PointResult, PointsResult, UndoPoint, belongs_to, load_points, undo_point


@click.command("undo")
@options.target_argument
@click.argument("point", required=False)
@click.option("--list", "listing", is_flag=True, help="List the undo points of this target.")
@options.as_json
def command(target: str, point: str | None, listing: bool, as_json: bool) -> None:
    """Put back what a repair changed: the newest undo point, or the one named."""
    found = Target(target)
    with opened_any(found.disk) as source:
        points = [one for one in load_points(found.undo_folder) if belongs_to(one, source)]
    if listing:
        emit(PointsResult(points=tuple(row(one) for one in points)), as_json, show_points)
        return
    chosen = _chosen(points, point, target)
    with opened_any(found.disk, for_writing=True) as source:
        undone = _undo(source, chosen)
        trace = trace_target(source, found.firmware, found.options)
    if found.case is not None:
        put_back(found.case, world.hand(), chosen.file.id, trace)
    emit(PointsResult(points=(undone,)), as_json, show_points)


def _undo(source: Ground, chosen: UndoPoint) -> PointResult:
    at = world.now()
    undo_point(source, chosen, at)
    return msgspec.structs.replace(row(chosen), state="undone")


def _chosen(points: list[UndoPoint], name: str | None, target: str) -> UndoPoint:
    if name is not None:
        match = next((one for one in points if one.file.id == name), None)
        if match is None:
            raise InputError(f"{target} has no undo point {name!r}.", f"See: mending undo {target} --list")
        return match
    left = [one for one in points if one.state.state != "undone"]
    if not left:
        raise RefusedError(
            f"There is nothing to undo on {target}.", "Every undo point was used already, or none was made."
        )
    return left[-1]


def row(point: UndoPoint) -> PointResult:
    """An undo point as a row of a list."""
    return PointResult(
        id=point.file.id,
        repair=point.file.repair,
        made=point.file.made,
        state=point.state.state,
        bytes=sum(patch.length for patch in point.patches),
        path=point.file.target.path,
    )
