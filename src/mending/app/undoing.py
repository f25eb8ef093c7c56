"""Taking repairs back."""

import msgspec

from mending.app.host import Host
from mending.app.targets import NamedTarget, opened_target
from mending.boot.trace import trace_target
from mending.case import put_back
from mending.model import InputError, RefusedError
from mending.repair.journal import (
    PointResult,
    PointsResult,
    UndoPoint,
    belongs_to,
    load_points,
    undo_point,
)


def list_undo_points(target: NamedTarget) -> PointsResult:
    """The undo points of a target, oldest first."""
    return PointsResult(points=tuple(point_result(point) for point in _points_of(target)))


def undo(target: NamedTarget, host: Host, name: str | None) -> PointsResult:
    """Put back what a repair changed: the newest undo point, or the one named.

    Raises:
        InputError: no such point.
        RefusedError: nothing to undo, or a guard says no.
        RepairFailedError: a write or the read-back failed.
    """
    chosen = _chosen(_points_of(target), name, target.name)
    with opened_target(target.path, for_writing=True) as source:
        undo_point(source, chosen, host.clock())
        trace = trace_target(source, target.firmware, target.boot_options)
    if target.case is not None:
        put_back(target.case, host.hand, chosen.file.id, trace)
    undone = msgspec.structs.replace(point_result(chosen), state="undone")
    return PointsResult(points=(undone,))


def point_result(point: UndoPoint) -> PointResult:
    """An undo point as a row of a list."""
    return PointResult(
        id=point.file.id,
        repair=point.file.repair,
        made=point.file.made,
        state=point.state.state,
        bytes=sum(change.length for change in point.patches),
        path=point.file.target.path,
    )


def _points_of(target: NamedTarget) -> list[UndoPoint]:
    with opened_target(target.path) as source:
        return [point for point in load_points(target.undo_folder) if belongs_to(point, source)]


def _chosen(points: list[UndoPoint], name: str | None, target: str) -> UndoPoint:
    if name is not None:
        for point in points:
            if point.file.id == name:
                return point
        raise InputError(
            f"{target} has no undo point {name!r}.", f"See: mending undo {target} --list"
        )
    left = [point for point in points if point.state.state != "undone"]
    if not left:
        raise RefusedError(
            f"There is nothing to undo on {target}.",
            "Every undo point was used already, or none was made.",
        )
    return left[-1]
