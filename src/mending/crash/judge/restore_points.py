"""Restore points of the PC set against the onset: which one to go back to, and what would go with
it.
"""

from collections.abc import Iterable, Sequence

from mending.crash.read import LogEvent
from mending.crash.results import PointResult, RestoreResult, SuspectResult
from mending.knowledge import EventKind
from mending.model import RestorePoint, plain_time

_CHANGES = {EventKind.INSTALLED: "goes", EventKind.REMOVED: "comes back"}
_MOST = 40


def points_of(rows: Iterable[RestorePoint], events: Iterable[LogEvent]) -> list[RestorePoint]:
    """Restore points of lists, and those that logs tell of, in order; the same one is not taken
    twice.
    """
    listed = sorted(rows, key=lambda point: point.at)
    logged = [
        RestorePoint(f"log entry {event.line}", event.at, event.name or event.says)
        for event in events
        if event.kind is EventKind.RESTORE_POINT
    ]
    fresh = [point for point in logged if all(abs(point.at - other.at) > 120 for other in listed)]
    return sorted([*listed, *fresh], key=lambda point: point.at)


def fitted(
    points: Sequence[RestorePoint], start: float | None, end: float | None
) -> tuple[PointResult, ...]:
    """Each point, and whether it is older than the onset, inside its interval, or later."""
    return tuple(
        PointResult(
            id=point.id, at=plain_time(point.at), says=point.says, fit=_fit(point.at, start, end)
        )
        for point in points
    )


def _fit(at: float, start: float | None, end: float | None) -> str:
    if start is None or end is None:
        return "in-doubt"
    return "before" if at <= start else "in-doubt" if at <= end else "after"


def recommended(
    points: Sequence[RestorePoint],
    start: float | None,
    end: float | None,
    events: Sequence[LogEvent],
    blamed: SuspectResult | None,
) -> RestoreResult | None:
    """The newest point that is older than the onset, else the next best; None where nothing is
    known to have begun.
    """
    if start is None or end is None:
        return None
    before = [point for point in points if point.at <= start]
    doubtful = [point for point in points if start < point.at <= end]
    if before:
        later = [point for point in points if point.at > before[-1].at]
        why = "the newest that is older than the first failure"
        warn = (
            f"; {len(later)} later {'one' if len(later) == 1 else 'ones'} may already hold the"
            " trouble"
            if later
            else ""
        )
        return _result(before[-1], why + warn, events)
    if doubtful:
        return _result(
            doubtful[0], "none is surely older than the trouble; this one may be", events
        )
    best = (
        f"take back by hand what it began with: {blamed.change}"
        if blamed
        else "it has to be found by other means"
    )
    why = (
        "every restore point is later than the first failure"
        if points
        else "no restore point is known"
    )
    return RestoreResult(id="", at="", why=f"{why}; {best}", undoes=())


def _result(point: RestorePoint, why: str, events: Sequence[LogEvent]) -> RestoreResult:
    undone = [
        f"{event.what} {event.name or event.says} {_CHANGES[event.kind]}"
        for event in events
        if event.kind in _CHANGES and event.at > point.at and event.what != "device"
    ]
    return RestoreResult(
        id=point.id, at=plain_time(point.at), why=why, undoes=tuple(dict.fromkeys(undone))[:_MOST]
    )
