"""Taking repairs back, doing them again, and letting go of old undo points."""

from pathlib import Path

import msgspec

from mending.app.case_disk import identity_now
from mending.app.host import Host
from mending.app.opening import opened_target
from mending.app.targets import NamedTarget
from mending.app.tracing import offers_in
from mending.boot.trace import open_environment, trace_environment
from mending.case import put_back
from mending.model import InputError, RefusedError, quoted
from mending.repair.journal import (
    NOTHING_MORE,
    Allowed,
    DamagedResult,
    Journal,
    PointResult,
    PointsResult,
    UndoPoint,
    state_here,
)
from mending.source import Target

UNDONE = "undone"


class UndoWish(msgspec.Struct, frozen=True):
    """Which point, and what is allowed beyond the usual.

    Attributes:
        point: its name, or the path of its folder; None for the newest that fits.
        redo: do it again instead of taking it back.
        allowed: what else may be believed.
    """

    point: str | None = None
    redo: bool = False
    allowed: Allowed = NOTHING_MORE


def list_undo_points(
    target: NamedTarget, host: Host, allowed: Allowed = NOTHING_MORE
) -> PointsResult:
    """The undo points of a target, oldest first, and what lies among them that is none."""
    journal = target.journal(host)
    with opened_target(target.path) as source:
        points = journal.points_of(source, allowed)
        return points_result(points, journal, source)


def undo(target: NamedTarget, host: Host, wish: UndoWish) -> PointsResult:
    """Put back what a repair changed, or do it again.

    Raises:
        InputError: no such point.
        RefusedError: nothing to undo, or a guard says no.
        RepairFailedError: a write or the read-back failed.
    """
    target.refuse_closed()
    journal, at = target.journal(host), host.clock()
    with opened_target(target.path) as source:
        points = journal.points_of(source, wish.allowed)
        chosen = _chosen(journal, points, wish, target.name, source)
    act = journal.redo if wish.redo else journal.undo
    with opened_target(target.path, for_writing=True) as source:
        changed = act(source, chosen, at, wish.allowed)
        environment = open_environment(source)
        found = trace_environment(source, environment, target.firmware, target.boot_options)
        trace = offers_in(source, environment, found, target.settings)
        identity = identity_now(source) if target.case is not None else None
    if target.case is not None and not wish.redo:
        put_back(target.case, host.hand, chosen.file.id, trace, identity)
    state = "done" if wish.redo else UNDONE
    return PointsResult(points=(point_result(changed, state),), warning=changed.warning)


def points_to_drop(target: NamedTarget, host: Host, point: str | None) -> list[UndoPoint]:
    """The point named, or all that were undone.

    Raises:
        InputError, RefusedError
    """
    journal = target.journal(host)
    with opened_target(target.path) as source:
        points = journal.points_of(source)
    if point is not None:
        return [_named(journal, points, point, target.name)]
    old = [each for each in points if each.state.state == UNDONE]
    if not old:
        raise RefusedError(
            f"No undo point of {target.name} was used already.", "Name the one to let go of."
        )
    return old


def drop_points(target: NamedTarget, host: Host, points: list[UndoPoint]) -> PointsResult:
    """Take points away for good."""
    journal = target.journal(host)
    for point in points:
        journal.drop(point)
    dropped = [msgspec.structs.replace(point_result(point), state="dropped") for point in points]
    return PointsResult(points=tuple(dropped))


def points_result(
    points: list[UndoPoint], journal: Journal, target: Target | None = None
) -> PointsResult:
    """A list of points, with what lies among them and cannot be used.

    Args:
        target: how far each has come there; None: on all that were written.
    """
    states = [None if target is None else state_here(point, target) for point in points]
    damaged = [
        DamagedResult(path=str(each.folder), says=each.says) for each in journal.load().damaged
    ]
    return PointsResult(points=tuple(map(point_result, points, states)), damaged=tuple(damaged))


def point_result(point: UndoPoint, state: str | None = None) -> PointResult:
    """An undo point as a row of a list. Args: state: on one target; None: on all."""
    return PointResult(
        id=point.file.id,
        repair=point.file.repair,
        made=point.file.made,
        state=state or point.state.state,
        bytes=sum(change.length for change in point.file.patches),
        path=point.file.target.path,
        made_here=point.made_here,
    )


def _chosen(
    journal: Journal, points: list[UndoPoint], wish: UndoWish, target: str, source: Target
) -> UndoPoint:
    if wish.point is not None:
        return _named(journal, points, wish.point, target)
    fitting = [point for point in points if (state_here(point, source) == UNDONE) == wish.redo]
    if not fitting:
        raise RefusedError(
            f"There is nothing to {'do again' if wish.redo else 'undo'} on {target}.",
            f"See: mending undo {quoted(target)} --list. If it was used since the repair, add"
            " --used-since to both.",
        )
    return fitting[0] if wish.redo else fitting[-1]


def _named(journal: Journal, points: list[UndoPoint], name: str, target: str) -> UndoPoint:
    """By its name among the points of the target, or of the whole folder, or by its own folder."""
    if "/" in name:
        return journal.load_one(Path(name))
    everything = [*points, *journal.load().points]
    for point in everything:
        if point.file.id == name:
            return point
    raise InputError(
        f"{target} has no undo point {name!r}.", f"See: mending undo {quoted(target)} --list"
    )
