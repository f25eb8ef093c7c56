"""Mending a target: plan, then carry out just what was planned, each step told to its case."""

from functools import partial
from pathlib import Path

import msgspec

from mending.app.case_disk import identity_now
from mending.app.host import Host
from mending.app.targets import NamedTarget
from mending.app.tracing import offers_in
from mending.boot.trace import open_environment, trace_environment
from mending.case import crash_files, mended, put_back
from mending.disk.locked import GivenKey, KeyRing
from mending.disk.opening import opened_target
from mending.knowledge import base_pack
from mending.model import InputError, Progress, RefusedError, UsageError, quoted, silent
from mending.repair.base import MendSettings
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
from mending.repair.run import (
    MendAllResult,
    MendResult,
    PlannedSequence,
    Preview,
    carry_out,
    examine,
    preview,
    preview_all,
    repair_of,
)
from mending.source import Identity, Target
from mending.source.portable import keep_no_memory


def opened_keys(secret: GivenKey | None) -> KeyRing | None:
    """What a key opens, for the settings of repairs; None without one. The program keeps no memory
    of it behind its end.
    """
    if secret is None:
        return None
    keep_no_memory()
    return KeyRing(secret)


def failing_since(target: NamedTarget, host: Host, settings: MendSettings) -> str:
    """When failing began by the crash records of a case and those on the disk; empty where none
    tells.
    """
    # lazy: only the choice of a moment needs what reads records
    from mending.app.evidence import read_crashes  # noqa: PLC0415
    from mending.crash.read import log_files  # noqa: PLC0415

    path, keys = target.path, settings.keys or KeyRing(None)
    files = [*(crash_files(target.case, host.key) if target.case is not None else ())]
    try:
        result = read_crashes(path, [*files, *log_files(Path(path), keys)], path, keys)
    except (InputError, UsageError):  # the question stands without it, too
        return ""
    return result.onset.from_ if result.onset is not None else ""


def plan_repair(
    target: NamedTarget,
    host: Host,
    repair: str,
    settings: MendSettings,
    sector: int | None = None,
    progress: Progress = silent,
) -> Preview:
    """What one repair would do. Reads only.

    Raises:
        UsageError: no such repair.
        RefusedError: a guard says no, or the target would not be better for it.
    """
    kind = repair_of(repair)
    settings = _with_onset(target, host, settings)
    with opened_target(target.path, sector) as source:
        return preview(kind, examine(source, settings), settings, progress)


def plan_repairs(
    target: NamedTarget,
    host: Host,
    settings: MendSettings,
    sector: int | None = None,
    progress: Progress = silent,
) -> PlannedSequence:
    """What every repair that is called for would do, one on top of the other. Reads only."""
    settings = _with_onset(target, host, settings)
    with opened_target(target.path, sector) as source:
        return preview_all(examine(source, settings), settings, progress)


def _with_onset(target: NamedTarget, host: Host, settings: MendSettings) -> MendSettings:
    ask = partial(failing_since, target, host, settings)
    return msgspec.structs.replace(settings, failing_since=ask)


def carry_out_repair(
    target: NamedTarget, host: Host, planned: Preview, sector: int | None = None
) -> MendResult:
    """Write what was planned, prove it, and let the target's case remember it.

    Raises:
        RefusedError: the target changed since, cannot be written now, or its case is closed.
        RepairFailedError: it failed; everything was put back.
    """
    target.refuse_closed()
    identity: Identity | None = None
    with opened_target(target.path, sector, for_writing=True) as source:
        result, after = carry_out(planned, source, target.journal(host), host.clock())
        if target.case is not None:
            identity = identity_now(source)
            environment = open_environment(source, planned.settings.keys)
            after = offers_in(source, environment, after, lambda: planned.settings)
    if target.case is not None and result.undo_point is not None:
        repair, point = planned.proposal.repair, result.undo_point
        target.case = mended(target.case, base_pack(), host.hand, repair, point, after, identity)
    return result


def carry_out_repairs(
    target: NamedTarget, host: Host, planned: PlannedSequence, sector: int | None = None
) -> MendAllResult:
    """Write everything that was planned, in turn. Raises as `carry_out_repair`; what was done
    before that stays done, each with its undo point.
    """
    steps = [carry_out_repair(target, host, each, sector) for each in planned.previews]
    return planned.result(steps)


# Taking repairs back, doing them again, and letting go of old undo points.


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
