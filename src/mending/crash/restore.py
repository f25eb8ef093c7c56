"""Restore points of the PC set against the onset: which one to go back to, and what would go with it."""

from collections.abc import Iterable, Sequence

from mending.crash.events import Event
from mending.crash.results import PointResult, RestoreResult, SuspectResult
from mending.knowledge import EventKind
from mending.model import RestorePoint, plain_time

_CHANGES = {EventKind.INSTALLED: "goes", EventKind.REMOVED: "comes back"}
_MOST = 40


def points_of(rows: Iterable[RestorePoint], events: Iterable[Event]) -> list[RestorePoint]:
    """Restore points of lists, and those that logs tell of, in order; the same one is not taken twice."""
    listed = sorted(rows, key=lambda one: one.at)
    logged = [RestorePoint(f"log entry {one.line}", one.at, one.name or one.says) for one in events
              if one.kind is EventKind.RESTORE_POINT]  # fmt: skip
    fresh = [one for one in logged if all(abs(one.at - other.at) > 120 for other in listed)]
    return sorted([*listed, *fresh], key=lambda one: one.at)


def fitted(points: Sequence[RestorePoint], start: float | None, end: float | None) -> tuple[PointResult, ...]:
    """Each point, and whether it is older than the onset, inside its interval, or later."""
    return tuple(
        PointResult(id=one.id, at=plain_time(one.at), says=one.says, fit=_fit(one.at, start, end)) for one in points
    )


def _fit(at: float, start: float | None, end: float | None) -> str:
    if start is None or end is None:
        return "in-doubt"
    return "before" if at <= start else "in-doubt" if at <= end else "after"


def recommended(
    points: Sequence[RestorePoint], start: float | None, end: float | None, events: Sequence[Event],
    blamed: SuspectResult | None,
) -> RestoreResult | None:  # fmt: skip
    """The newest point that is older than the onset, else the next best; None where nothing is known to have begun."""
    if start is None or end is None:
        return None
    before = [one for one in points if one.at <= start]
    doubtful = [one for one in points if start < one.at <= end]
    if before:
        later = [one for one in points if one.at > before[-1].at]
        why = "the newest that is older than the first failure"
        warn = (
            f"; {len(later)} later {'one' if len(later) == 1 else 'ones'} may already hold the trouble" if later else ""
        )
        return _result(before[-1], why + warn, events)
    if doubtful:
        return _result(doubtful[0], "none is surely older than the trouble; this one may be", events)
    best = f"take back by hand what it began with: {blamed.change}" if blamed else "it has to be found by other means"
    why = "every restore point is later than the first failure" if points else "no restore point is known"
    return RestoreResult(id="", at="", why=f"{why}; {best}", undoes=())


def _result(point: RestorePoint, why: str, events: Sequence[Event]) -> RestoreResult:
    undone = [f"{one.what} {one.name or one.says} {_CHANGES[one.kind]}" for one in events
              if one.kind in _CHANGES and one.at > point.at and one.what != "device"]  # fmt: skip
    return RestoreResult(
        id=point.id, at=plain_time(point.at), why=why, undoes=tuple(dict.fromkeys(undone))[:_MOST]
    )  # fmt: skip
