"""Changes, and things plugged in, set against the failures: which one did they begin with?

For each change the failures are taken as two Poisson processes in running time, one before it and
one behind it, against a single one for all the time. The gain in log-likelihood says how well the
failing begins with that change, an exact test how easily chance would do it (corrected for the
number of changes, Holm 1979), and `near` how easily some change would lie so close before the
beginning. What crashes name, and what a package brings, is added to the gain. Only a change for
which times or names speak clearly is blamed; the others are shown with their numbers.
"""

import math
from collections.abc import Callable, Iterator, Sequence

import msgspec

from mending.crash.judge.changes import Change, beforehand_of, changes_in
from mending.crash.judge.mentions import End, What
from mending.crash.judge.onset import change_fit, exact_p, holm, split_fit
from mending.crash.judge.pointing import NOTHING, Contents, Pointed, pointed_at, reach, touches
from mending.crash.judge.timeline import Clock, Timeline
from mending.crash.results import SuspectResult
from mending.knowledge import EventKind
from mending.model import plain_time

_AT_START = 120.0
"""Seconds after a start in which devices are found, not plugged in."""
_AT_ONCE = 30.0
"""Seconds within which a crash belongs to what was plugged in."""
_BEHIND = 180.0
"""Seconds from plugging in to the next start, where nothing was logged between: then it was the
last sign of life.
"""
_BLAMED = 0.05
_TELLING = 1.5
"""Weight from which what is named stands for nearness in time: a module once, others twice."""
_HOUR = 3600.0
_SHOWN = 12


class _Weighed(msgspec.Struct, frozen=True):
    change: Change
    plugged: bool
    few: int
    few_seconds: float
    many: int
    many_seconds: float
    fit: float
    p: float
    pointed: Pointed = NOTHING


class Pointers(msgspec.Struct, frozen=True):
    """What is known beside the times.

    Attributes:
        ends: what each end of a run names.
        contents: what packages bring.
        kernel: whether it is a kernel that fails.
    """

    ends: Sequence[End]
    contents: Contents
    kernel: bool


def suspects(line: Timeline, pointers: Pointers) -> tuple[SuspectResult, ...]:
    """All changes, the likeliest first; none where nothing failed or nothing changed."""
    clock, total = line.clock(), line.seconds
    failed = [run for run in line.runs if run.failed]
    failures = [clock.running(run.end) for run in failed]
    if not failures or total <= 0:
        return ()
    weighed = [_weigh(change, clock, failures, total, pointers) for change in changes_in(line)]
    weighed += list(_plugged(line, failures, total, pointers))
    if not weighed:
        return ()
    corrected = holm([change.p for change in weighed])
    near = _nearness(
        [clock.running(change.change.at) for change in weighed if not change.plugged],
        failures,
        total,
    )
    top = max(change.fit for change in weighed)
    whole = sum(math.exp(change.fit - top) for change in weighed) if top > -math.inf else 1.0
    shares = [
        math.exp(change.fit - top) / whole if change.fit > -math.inf else 0.0 for change in weighed
    ]
    found = [
        _result(
            change,
            p,
            shares[number],
            0.0 if change.plugged else near(clock.running(change.change.at)),
            shares[number] == max(shares),
        )
        for number, (change, p) in enumerate(zip(weighed, corrected, strict=True))
    ]
    return tuple(sorted(found, key=lambda suspect: (-suspect.share, suspect.p))[:_SHOWN])


def _weigh(
    change: Change,
    clock: Clock,
    failures: Sequence[float],
    total: float,
    pointers: Pointers,
) -> _Weighed:
    at = clock.running(change.at)
    after = sum(1 for failure in failures if failure >= at)
    fit = change_fit(failures, total, at) + beforehand_of(change.what)
    contents = pointers.contents
    pointed = _pointed(change, pointers)
    beforehand = {name: reach(change.what, name, contents) for name in change.names}
    if pointers.kernel:
        fit += max(beforehand.values())

    def likeliest(name: str) -> tuple[float, float]:
        named = touches(name, pointed.most, contents.get(name)) if pointed.most else 0.0
        return -named, -beforehand[name]

    change = msgspec.structs.replace(change, names=tuple(sorted(change.names, key=likeliest)))
    fit += pointed.weight
    p = exact_p(after, len(failures), (total - at) / total)
    return _Weighed(change, False, len(failures) - after, at, after, total - at, fit, p, pointed)


def _pointed(change: Change, pointers: Pointers) -> Pointed:
    """What ends of runs say of a change; nothing of a device whose driver is not known."""
    if change.what == "device" and pointers.contents.keys().isdisjoint(change.names):
        return NOTHING
    return pointed_at(change.names, pointers.ends, pointers.contents)


def _plugged(
    line: Timeline, failures: Sequence[float], total: float, pointers: Pointers
) -> Iterator[_Weighed]:
    """Each thing that is plugged in while the PC runs, against failures within seconds of it."""
    starts = [run.start for run in line.runs]
    by_name: dict[str, list[float]] = {}
    for event in line.events:
        later = event.kind is EventKind.PLUGGED and not any(
            0 <= event.at - start < _AT_START for start in starts
        )
        if later:
            by_name.setdefault(event.name, []).append(event.at)
    for name, times in by_name.items():
        within = sum(
            1 for run in line.runs if run.failed and any(_soon(at, run.end, starts) for at in times)
        )
        seconds = min(_AT_ONCE * len(times), total)
        few = len(failures) - within
        change = Change(times[-1], "device", (name,), False)
        pointed = _pointed(change, pointers)
        fit = split_fit(few, total - seconds, within, seconds) + pointed.weight
        p = exact_p(within, len(failures), seconds / total)
        yield _Weighed(change, True, few, total - seconds, within, seconds, fit, p, pointed)


def _soon(at: float, end: float, starts: list[float]) -> bool:
    """Whether a run ended within seconds of plugging in, or gave no sign of life after it and was
    started anew.
    """
    following = next((start for start in starts if start > at), None)
    return 0 <= end - at <= _AT_ONCE and (
        following is None or end - at > 1 or following - at < _BEHIND
    )


def _nearness(
    changes: list[float], failures: Sequence[float], total: float
) -> Callable[[float], float]:
    """For a change: the chance that a failing which began at any time showed itself so soon after
    any of them.

    The failure with which the failing showed itself is found without looking at the changes; later
    changes are out.
    """
    places = sorted(changes)
    first = max(failures, key=lambda failure: change_fit(failures, total, failure))

    def near(at: float) -> float:
        delay = first - at
        if delay < 0:
            return 1.0
        ends = [*places[1:], total]
        covered = sum(min(delay, end - place) for place, end in zip(places, ends, strict=True))
        return min(1.0, covered / total)

    return near


def _result(weighed: _Weighed, p: float, share: float, near: float, top: bool) -> SuspectResult:
    before = weighed.few / (weighed.few_seconds / _HOUR) if weighed.few_seconds else 0.0
    after = weighed.many / (weighed.many_seconds / _HOUR) if weighed.many_seconds else 0.0
    blamed = (
        top
        and weighed.fit > 0
        and p <= _BLAMED
        and (near <= _BLAMED or weighed.pointed.weight >= _TELLING)
    )
    if weighed.plugged:
        says = (
            f"{weighed.many} of {weighed.few + weighed.many} failures came within seconds of"
            " plugging it in"
        )
        says += _pointing(weighed.pointed, device=True)
        change = f"plugged in: {weighed.change.names[0]}"
    else:
        hours, later = weighed.few_seconds / _HOUR, weighed.many_seconds / _HOUR
        failures = "failure" if weighed.few == 1 else "failures"
        says = (
            f"{weighed.few} {failures} in {hours:.0f} hours before it, {weighed.many} in"
            f" {later:.0f} hours after it"
        )
        says += _pointing(weighed.pointed, device=weighed.change.what == "device")
        change = weighed.change.says
    return SuspectResult(
        change=change,
        what=weighed.change.what,
        at=plain_time(weighed.change.at),
        before_per_hour=round(before, 4),
        after_per_hour=round(after, 4),
        ratio=round(after / before, 2) if before else None,
        p=p,
        near=near,
        share=round(share, 4),
        blamed=blamed,
        says=says,
        plugged=weighed.plugged,
        named_by=weighed.pointed.ends,
        named_of=weighed.pointed.of,
    )


def _pointing(pointed: Pointed, *, device: bool = False) -> str:
    """The other half of what speaks for a change."""
    if pointed.most is None:
        return ""
    what, name = pointed.most.what, pointed.most.name
    brought = "the driver that it uses" if device else "which it brought"
    if what is What.LAST_WORDS:
        return f", and {name} spoke last before {_count(pointed, 'end')}, {brought}"
    ran = " ran at" if what is What.PROGRAM else ""
    if ran:
        return f", and {name}{ran} {_count(pointed, 'crash')}, {brought}"
    verb = "names" if pointed.of == 1 else "name"
    return f", and {_count(pointed, 'crash')} {verb} {name}, {brought}"


def _count(pointed: Pointed, what: str) -> str:
    if pointed.of == 1:
        return f"the {what}"
    return f"{pointed.ends} of {pointed.of} {'crashes' if what == 'crash' else 'ends'}"
