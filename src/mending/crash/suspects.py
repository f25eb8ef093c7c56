"""Changes, and things plugged in, set against the failures: which one did they begin with?"""

import math
from collections.abc import Callable, Iterator, Sequence

import msgspec

from mending.crash.events import Event
from mending.crash.onset import change_fit, exact_p, holm, split_fit
from mending.crash.results import SuspectResult
from mending.crash.timeline import Clock, Timeline
from mending.knowledge import EventKind
from mending.model import plain_time

_TOGETHER = 900.0
"""Seconds of the day within which changes count as one: nothing can tell them apart."""
_AT_START = 120.0
"""Seconds after a start in which devices are found, not plugged in."""
_AT_ONCE = 30.0
"""Seconds within which a crash belongs to what was plugged in."""
_BEHIND = 180.0
"""Seconds from plugging in to the next start, where nothing was logged between: then it was the last sign of life."""
_BLAMED = 0.05
_KINDS = {"driver": 0.4, "update": 0.3, "device": 0.2, "program": 0.0}
"""What is known beforehand: logarithms of how much more often a kind of change is behind crashes than a program is."""
_NAMED = 3.0
"""The same for a change that bears the name of the module which a dump names."""
_HOUR = 3600.0
_SHOWN = 12


class _Change(msgspec.Struct, frozen=True):
    """One change, or several at the same time."""

    at: float
    what: str
    names: tuple[str, ...]
    removed: bool

    @property
    def says(self) -> str:
        """One line for people."""
        shown = ", ".join(self.names[:3]) + (f" and {len(self.names) - 3} more" if len(self.names) > 3 else "")
        return f"{self.what} {shown}{' removed' if self.removed else ''}"


class _Weighed(msgspec.Struct, frozen=True):
    change: _Change
    plugged: bool
    few: int
    few_seconds: float
    many: int
    many_seconds: float
    fit: float
    p: float
    named: bool = False


def suspects(line: Timeline) -> tuple[SuspectResult, ...]:
    """All changes, the likeliest first; none where nothing failed or nothing changed."""
    clock, total = line.clock(), line.seconds
    failed = [run for run in line.runs if run.failed]
    failures = [clock.running(run.end) for run in failed]
    if not failures or total <= 0:
        return ()
    named = {_stem(run.named) for run in failed if run.named}
    weighed = [_weigh(one, clock, failures, total, named) for one in _changes(line)]
    weighed += list(_plugged(line, failures, total))
    if not weighed:
        return ()
    corrected = holm([one.p for one in weighed])
    near = _nearness([clock.running(one.change.at) for one in weighed if not one.plugged], failures, total)
    top = max(one.fit for one in weighed)
    whole = sum(math.exp(one.fit - top) for one in weighed) if top > -math.inf else 1.0
    shares = [math.exp(one.fit - top) / whole if one.fit > -math.inf else 0.0 for one in weighed]
    found = [
        _result(
            one,
            p,
            shares[number],
            0.0 if one.plugged else near(clock.running(one.change.at)),
            shares[number] == max(shares),
        )
        for number, (one, p) in enumerate(zip(weighed, corrected, strict=True))
    ]
    return tuple(sorted(found, key=lambda one: (-one.share, one.p))[:_SHOWN])


def _changes(line: Timeline) -> list[_Change]:
    """Changes in order. A driver that is loaded for the first time, in a later run than the first, is one, too."""
    groups: list[list[Event]] = []
    loaded: set[str] = set()
    first_end = line.runs[0].end if line.runs else 0.0
    for one in line.events:
        if one.kind is EventKind.LOADED:
            new = one.name not in loaded and one.at > first_end
            loaded.add(one.name)
            if not new:
                continue
        elif one.kind not in {EventKind.INSTALLED, EventKind.REMOVED} or (one.what == "device"):
            continue
        if groups and one.at - groups[-1][0].at < _TOGETHER:
            groups[-1].append(one)
        else:
            groups.append([one])
    return [_change(group) for group in groups]


def _change(group: list[Event]) -> _Change:
    kinds = [one.what for one in group]
    what = max(set(kinds), key=lambda kind: (_KINDS.get(kind, 0.0), kind))
    names = tuple(dict.fromkeys(one.name or one.says for one in group))
    return _Change(group[0].at, what, names, all(one.kind is EventKind.REMOVED for one in group))


def _weigh(one: _Change, clock: Clock, failures: Sequence[float], total: float, named: set[str]) -> _Weighed:
    at = clock.running(one.at)
    after = sum(1 for failure in failures if failure >= at)
    fit = change_fit(failures, total, at) + _KINDS.get(one.what, 0.0)
    by_name = any(_stem(name) in named for name in one.names)
    fit += _NAMED if by_name else 0.0
    p = exact_p(after, len(failures), (total - at) / total)
    return _Weighed(one, False, len(failures) - after, at, after, total - at, fit, p, by_name)


def _plugged(line: Timeline, failures: Sequence[float], total: float) -> Iterator[_Weighed]:
    """Each thing that is plugged in while the PC runs, against failures within seconds of it."""
    starts = [run.start for run in line.runs]
    by_name: dict[str, list[float]] = {}
    for one in line.events:
        later = one.kind is EventKind.PLUGGED and not any(0 <= one.at - start < _AT_START for start in starts)
        if later:
            by_name.setdefault(one.name, []).append(one.at)
    for name, times in by_name.items():
        within = sum(1 for run in line.runs if run.failed and any(_soon(at, run.end, starts) for at in times))
        seconds = min(_AT_ONCE * len(times), total)
        few = len(failures) - within
        fit = split_fit(few, total - seconds, within, seconds)
        change = _Change(times[-1], "device", (name,), False)
        p = exact_p(within, len(failures), seconds / total)
        yield _Weighed(change, True, few, total - seconds, within, seconds, fit, p)


def _soon(at: float, end: float, starts: list[float]) -> bool:
    """Whether a run ended within seconds of plugging in, or gave no sign of life after it and was started anew."""
    following = next((start for start in starts if start > at), None)
    return 0 <= end - at <= _AT_ONCE and (following is None or end - at > 1 or following - at < _BEHIND)


def _nearness(changes: list[float], failures: Sequence[float], total: float) -> Callable[[float], float]:
    """For a change: the chance that a failing which began at any time showed itself so soon after any of them.

    The failure with which the failing showed itself is found without looking at the changes; later changes are out.
    """
    places = sorted(changes)
    first = max(failures, key=lambda one: change_fit(failures, total, one))

    def near(at: float) -> float:
        delay = first - at
        if delay < 0:
            return 1.0
        ends = [*places[1:], total]
        covered = sum(min(delay, end - place) for place, end in zip(places, ends, strict=True))
        return min(1.0, covered / total)

    return near


def _result(one: _Weighed, p: float, share: float, near: float, top: bool) -> SuspectResult:
    before = one.few / (one.few_seconds / _HOUR) if one.few_seconds else 0.0
    after = one.many / (one.many_seconds / _HOUR) if one.many_seconds else 0.0
    blamed = top and one.fit > 0 and p <= _BLAMED and (near <= _BLAMED or one.named)
    if one.plugged:
        says = f"{one.many} of {one.few + one.many} failures came within seconds of plugging it in"
        change = f"plugged in: {one.change.names[0]}"
    else:
        hours, later = one.few_seconds / _HOUR, one.many_seconds / _HOUR
        failures = "failure" if one.few == 1 else "failures"
        says = f"{one.few} {failures} in {hours:.0f} hours before it, {one.many} in {later:.0f} hours after it"
        says += ", and a dump names it" if one.named else ""
        change = one.change.says
    return SuspectResult(
        change=change, what=one.change.what, at=plain_time(one.change.at), before_per_hour=round(before, 4),
        after_per_hour=round(after, 4), ratio=round(after / before, 2) if before else None, p=p, near=near,
        share=round(share, 4), blamed=blamed, says=says,
    )  # fmt: skip


def _stem(name: str) -> str:
    """A name of a file, without its folder and ending, to compare with."""
    return name.replace("\\", "/").rpartition("/")[2].rpartition(".")[0].casefold() or name.casefold()
