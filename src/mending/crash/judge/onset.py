"""When failing began, and which change it began with: rates of failures in running time, by Bayes'
rule.

Failures are taken for a Poisson process whose rate changes once (Raftery and Akman, "Bayesian
analysis of a Poisson process with a change-point", Biometrika 73, 1986). Rates have gamma priors,
integrated out; as their scale is not known, several are averaged, from the usual pace of failures
up to ten thousand times it.
"""

import bisect
import itertools
import math
import re
import statistics
from bisect import bisect_right
from collections import Counter
from collections.abc import Iterable, Iterator, Sequence
from itertools import pairwise

import msgspec

from mending.crash.judge.timeline import Run, Timeline, kernel_version
from mending.crash.read import LogEvent
from mending.crash.results import (
    LoopResult,
    PatternResult,
    PointResult,
    RestoreResult,
    SilentEndResult,
    SuspectResult,
)
from mending.knowledge import EventKind
from mending.model import RestorePoint, plain_time

_SHAPE = 0.5
_SCALES = (1.0, 0.1, 0.01, 0.001, 0.0001)
_POINTS = 40
"""Places looked at between two failures; the likelihood is smooth there."""
_SHARE = 0.985
"""Of the posterior that the interval holds: a little more than is promised, for the model is not
the world.
"""


class Onset(msgspec.Struct, frozen=True):
    """Where the rate of failures changed: an interval in running seconds; how much better a change
    fits than none.
    """

    start: float
    end: float
    evidence: float


def log_fit(count: int, seconds: float, usual: float) -> float:
    """Logarithm of how well `count` failures in so many seconds fit a constant rate that is not
    known.

    Args:
        usual: seconds for one failure over all records; the scale of the prior.
    """
    fits = []
    for scale in _SCALES:
        rate = _SHAPE * usual * scale
        fits.append(
            _SHAPE * math.log(rate)
            - math.lgamma(_SHAPE)
            + math.lgamma(_SHAPE + count)
            - (_SHAPE + count) * math.log(rate + seconds)
        )
    top = max(fits)
    return top + math.log(sum(math.exp(fit - top) for fit in fits) / len(fits))


def change_fit(failures: Sequence[float], total: float, at: float) -> float:
    """Logarithm of how much better a rise at `at` fits than one rate throughout. -inf where the
    rate does not rise.

    Args:
        failures: running seconds at each failure, ascending.
        total: running seconds in all.
    """
    after = sum(1 for failure in failures if failure >= at)
    return split_fit(len(failures) - after, at, after, total - at)


def split_fit(few: int, few_seconds: float, many: int, many_seconds: float) -> float:
    """The same for any two parts of the running time, of which the second should fail more
    often.
    """
    count, total = few + many, few_seconds + many_seconds
    if not count or not total or many * few_seconds <= few * many_seconds:
        return -math.inf
    usual = total / count
    whole = log_fit(count, total, usual)
    return log_fit(few, few_seconds, usual) + log_fit(many, many_seconds, usual) - whole


def find_onset(failures: Sequence[float], total: float) -> Onset | None:
    """The interval in which failing began; None without a failure."""
    if not failures or total <= 0:
        return None
    edges = [0.0, *failures]
    places: list[float] = []
    widths: list[float] = []
    for left, right in itertools.pairwise(edges):
        step = (right - left) / _POINTS
        if step > 0:
            places += [left + step * (number + 0.5) for number in range(_POINTS)]
            widths += [step] * _POINTS
    if not places:
        return Onset(0.0, 0.0, 0.0)
    fits = [change_fit(failures, total, place) for place in places]
    top = max(fits)
    if top == -math.inf:
        return Onset(0.0, failures[0], 0.0)
    masses = [math.exp(fit - top) * width for fit, width in zip(fits, widths, strict=True)]
    whole = sum(masses)
    start, end = _densest(places, widths, masses, whole)
    return Onset(start, end, math.exp(min(top, 500.0)) * whole / total)


def _densest(
    places: list[float], widths: list[float], masses: list[float], whole: float
) -> tuple[float, float]:
    """The range around the densest places that together hold the share."""
    order = sorted(range(len(places)), key=lambda number: -masses[number] / widths[number])
    kept, held = [], 0.0
    for number in order:
        kept.append(number)
        held += masses[number]
        if held >= _SHARE * whole:
            break
    first, last = min(kept), max(kept)
    return places[first] - widths[first] / 2, places[last] + widths[last] / 2


def exact_p(failures_in: int, failures: int, share: float) -> float:
    """Chance of at least so many of all failures in a part of the running time, if they fell
    evenly.

    The exact test of two Poisson rates, given their sum (Przyborowski and Wilenski, Biometrika 31,
    1940).
    """
    if failures_in <= 0:
        return 1.0
    if failures_in > failures or share <= 0.0:
        return 0.0
    if share >= 1.0:
        return 1.0
    inside, outside = math.log(share), math.log1p(-share)
    return min(
        1.0,
        math.fsum(  # by logarithms: of a thousand failures the ways alone are no float any more
            math.exp(
                math.log(math.comb(failures, count)) + count * inside + (failures - count) * outside
            )
            for count in range(failures_in, failures + 1)
        ),
    )


def holm(values: Sequence[float]) -> list[float]:
    """Chances corrected for their number (Holm, Scandinavian Journal of Statistics 6, 1979), in the
    given order.
    """
    order = sorted(range(len(values)), key=lambda number: values[number])
    out, highest = [0.0] * len(values), 0.0
    for rank, number in enumerate(order):
        highest = max(highest, min(1.0, (len(values) - rank) * values[number]))
        out[number] = highest
    return out


# What crashes have in common: loops of starts, codes, warmth, sleep. Each as a number, with what
# it suggests.
#
# Each pattern compares what was seen with what would be expected if failures knew nothing of it:
# failures late in a run with the share of running time that lies so late, failures after waking
# with the share that lies there, codes with how often two of them would agree by chance. So a PC
# that always runs long is not called warm, and few crashes give no pattern at all.


_LEAST_LOOP = 3
_SHORT, _SHORTER = 900.0, 300.0
"""Longest run of a loop in seconds, where the records tell of sign-ins, and where they do not."""
_REGULAR = 0.15
_WARM, _AFTER_SLEEP = 1200.0, 600.0
_SURE = 0.05
_LEAST_CODES = 4
_MOSTLY, _SCATTERED = 0.75, 0.8


def loops(line: Timeline) -> tuple[LoopResult, ...]:
    """Starts one after the other that never came to the sign-in. Restarts that were asked for end
    cleanly: no loop.
    """
    tells = any(event.kind is EventKind.SIGNED_IN for event in line.events)
    found: list[list[Run]] = []
    current: list[Run] = []
    for run in line.runs:
        if _may_loop(run, tells):
            current.append(run)
        else:
            found.append(current)
            current = []
    return tuple(_loop(runs) for runs in (*found, current) if _is_loop(runs))


def _may_loop(run: Run, tells: bool) -> bool:
    limit = _SHORT if tells else _SHORTER
    return run.ended != "clean" and not run.signed_in and run.end - run.start < limit


def _is_loop(runs: Sequence[Run]) -> bool:
    """At least three starts, of which all but the last failed."""
    close = all(other.start - run.start < 2 * _SHORT for run, other in pairwise(runs))
    return (
        len(runs) >= _LEAST_LOOP
        and close
        and any(run.failed or run.ended == "unknown" for run in runs)
    )


def _loop(runs: Sequence[Run]) -> LoopResult:
    gaps = [other.start - run.start for run, other in pairwise(runs)]
    mean = statistics.mean(gaps)
    spread = statistics.stdev(gaps) / mean if len(gaps) > 1 and mean else 0.0
    regular = len(gaps) > 1 and mean > 0 and spread < _REGULAR
    means = (
        "always after the same time, as by a watchdog or a crash at one point of starting"
        if regular
        else (
            "after times that differ, as by heat, power or memory"
            if len(gaps) > 1 and mean
            else "too few to see a rhythm"
            if mean
            else "and the clock, which began anew each time, tells nothing of a rhythm"
        )
    )
    return LoopResult(
        starts=len(runs),
        at=plain_time(runs[0].start),
        until=plain_time(runs[-1].start),
        gap_seconds=round(statistics.median(gaps), 1),
        spread=round(spread, 3),
        regular=regular,
        says=f"{len(runs)} starts one after the other without a sign-in, {means}",
    )


def patterns(line: Timeline) -> tuple[PatternResult, ...]:
    """What stands out; nothing where the crashes are too few to tell."""
    return (*_codes(line), *_warm(line), *_after_sleep(line))


def _codes(line: Timeline) -> Iterator[PatternResult]:
    """How often two crashes taken at random have different codes (Simpson, Nature 163, 1949)."""
    codes = [run.code for run in line.runs if run.code]
    if len(codes) < _LEAST_CODES:
        return
    counts = Counter(codes)
    code, most = counts.most_common(1)[0]
    differ = 1 - sum(count * (count - 1) for count in counts.values()) / (
        len(codes) * (len(codes) - 1)
    )
    if most / len(codes) >= _MOSTLY:
        says = (
            f"{most} of {len(codes)} crashes have the same code, {code:#x}: one driver or file, not"
            " chance"
        )
        yield PatternResult(
            id="same-code", says=says, value=round(differ, 3), p=None, suspects=("driver", "update")
        )
    elif differ >= _SCATTERED:
        says = (
            f"two of the {len(codes)} crashes have different codes {differ:.0%} of the time:"
            " memory, power or heat"
        )
        yield PatternResult(
            id="scattered-codes",
            says=says,
            value=round(differ, 3),
            p=None,
            suspects=("memory", "power-or-heat"),
        )


def _warm(line: Timeline) -> Iterator[PatternResult]:
    """Failures late in a run, against the share of running time that lies so late."""
    ran = [(sum(end - start for start, end in run.awake), run.failed) for run in line.runs]
    total, failed = sum(length for length, _ in ran), sum(1 for _, bad in ran if bad)
    late = sum(max(length - _WARM, 0.0) for length, _ in ran)
    if failed < _LEAST_CODES or not total or not late:
        return
    count = sum(1 for length, bad in ran if bad and length >= _WARM)
    p = exact_p(count, failed, late / total)
    if p <= _SURE:
        says = (
            f"{count} of {failed} failures came after {_WARM / 60:.0f} minutes of running, where"
            f" {late / total:.0%} of the running time lies: only when warm"
        )
        yield PatternResult(
            id="only-warm",
            says=says,
            value=round(count / failed, 3),
            p=p,
            suspects=("power-or-heat",),
        )


def _after_sleep(line: Timeline) -> Iterator[PatternResult]:
    """Failures within minutes of waking up, against the share of running time that lies there."""
    woken = [(start, end, run) for run in line.runs for start, end in run.awake[1:]]
    failed = sum(1 for run in line.runs if run.failed)
    if not woken or not failed or not line.seconds:
        return
    seconds = sum(min(end - start, _AFTER_SLEEP) for start, end, _ in woken)
    count = sum(
        1
        for start, end, run in woken
        if run.failed and run.end == end and end - start <= _AFTER_SLEEP
    )
    p = exact_p(count, failed, seconds / line.seconds) if count > 1 else 1.0
    if p <= _SURE:
        says = (
            f"{count} of {failed} failures came within {_AFTER_SLEEP / 60:.0f} minutes of waking"
            " up: after sleep"
        )
        yield PatternResult(
            id="after-sleep",
            says=says,
            value=round(count / failed, 3),
            p=p,
            suspects=("driver", "firmware"),
        )


# Changes of a PC as its records tell them: what was installed or taken out, and what shows itself
# for the first time.


_TOGETHER = 900.0
"""Seconds of the day within which changes count as one: nothing can tell them apart."""
_KINDS = {"driver": 0.4, "update": 0.3, "firmware": 0.3, "device": 0.2, "program": 0.0}
"""What is known beforehand: logarithms of how much more often a kind of change is behind crashes
than a program is.
"""

_NUMBERS = re.compile(r"[\d\[]")
"""What is in front of the first is the same for all devices of a bus."""


class Change(msgspec.Struct, frozen=True):
    """One change, or several at the same time."""

    at: float
    what: str
    names: tuple[str, ...]
    removed: bool

    @property
    def says(self) -> str:
        """One line for people."""
        shown = ", ".join(self.names[:3]) + (
            f" and {len(self.names) - 3} more" if len(self.names) > 3 else ""
        )
        return f"{self.what} {shown}{' removed' if self.removed else ''}"


def beforehand_of(what: str) -> float:
    """What is known of a kind of change before anything was seen, as a logarithm."""
    return _KINDS.get(what, 0.0)


def changes_in(line: Timeline) -> list[Change]:
    """Changes in order. A driver, a firmware, a kernel or a device that shows itself for the first
    time, in a later run than the first, is one, too.
    """
    groups: list[list[LogEvent]] = []
    first_seen = _FirstSeen(line)
    for event in line.events:
        event = _as_loaded(event)
        if event.kind in {EventKind.LOADED, EventKind.PLUGGED}:
            if not first_seen.is_new(event):
                continue
        elif event.kind not in {EventKind.INSTALLED, EventKind.REMOVED} or event.what == "device":
            continue
        if groups and event.at - groups[-1][0].at < _TOGETHER:
            groups[-1].append(event)
        else:
            groups.append([event])
    return [_change(group) for group in groups]


class _FirstSeen:
    """What shows itself, and since when."""

    def __init__(self, line: Timeline) -> None:
        self._starts = [run.start for run in line.runs]
        self._first_end = line.runs[0].end if line.runs else 0.0
        self._things: set[str] = set()
        self._buses: dict[str, float] = {}

    def is_new(self, event: LogEvent) -> bool:
        """Whether this is the first time. Records may begin in the middle of a run: a device is new
        only after a run that showed others of the same bus.
        """
        place, colon, ids = event.name.partition(": ")
        thing = ids if colon else place  # a device may change its place
        new = thing not in self._things and event.at > self._first_end
        self._things.add(thing)
        if event.what != "device":
            return new
        since = self._buses.setdefault(_NUMBERS.split(thing, maxsplit=1)[0], event.at)
        run = bisect_right(self._starts, event.at) - 1
        return new and run >= 0 and since < self._starts[run]


def _as_loaded(event: LogEvent) -> LogEvent:
    """A start as what it loads: its kernel."""
    version = kernel_version(event.says) if event.kind is EventKind.START else ""
    if not version:
        return event
    name = f"linux-kernel {version}"
    return msgspec.structs.replace(event, kind=EventKind.LOADED, what="update", name=name)


def _change(group: list[LogEvent]) -> Change:
    kinds = [event.what for event in group]
    what = max(set(kinds), key=lambda kind: (_KINDS.get(kind, 0.0), kind))
    names = tuple(dict.fromkeys(event.name or event.says for event in group))
    return Change(group[0].at, what, names, all(event.kind is EventKind.REMOVED for event in group))


# Restore points of the PC set against the onset: which one to go back to, and what would go with
# it.


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


# Runs that end without a shutdown and without a crash: what was last, and what speaks for a
# person, for heat, for power or for a watchdog.
#
# Who switches a PC off by force while it still answers has not seen a fault. So such ends do not
# count as failures; where the PC had been silent before the key was held, or nothing tells, they
# do.


BY_HAND, ANSWERED = "by-hand", "answered"
_BEFORE, _KEY, _ANSWERED, _AFTER = 600.0, 30.0, 60.0, 3600.0
"""Seconds before an end that count; from the key to the end; from the last entry to the key of a PC
that still answers; after the next start in which it is told how this one ended.
"""
_SAME = 2.0
_SIGNS = {
    EventKind.TOO_HOT: "heat",
    EventKind.POWER: "power",
    EventKind.HARDWARE_ERROR: "errors of the hardware",
    EventKind.DISK_ERROR: "errors of a drive",
    EventKind.FILE_SYSTEM_ERROR: "errors of a file system",
}
_KEY_WORDS, _WATCHDOG_WORDS = "power button", "watchdog"
"""In the reason for the last reset that a kernel reads from the processor."""


def without_hands(
    line: Timeline, files: Sequence[tuple[float, str]] = ()
) -> tuple[Timeline, tuple[SilentEndResult, ...]]:
    """The runs, of which those that a person cut short count no longer as failed; and what is known
    of every silent end.

    Args:
        files: Unix seconds and words of the last entry of each file.
    """
    runs, found = list(line.runs), list[SilentEndResult]()
    times = [event.at for event in line.events]

    def between(start: float, end: float) -> Sequence[LogEvent]:
        return line.events[bisect.bisect_left(times, start) : bisect.bisect_right(times, end)]

    for number, run in enumerate(line.runs[:-1]):
        if run.ended != "unclean":
            continue
        following = line.runs[number + 1].start
        before = between(max(run.end - _BEFORE, run.start), run.end)
        end = _end(run.end, following, before, between(following, following + _AFTER))
        if not end.last:  # the next start stands in a file of its own
            ends = (words for at, words in files if words and abs(at - run.end) <= _SAME)
            end = msgspec.structs.replace(end, last=next(ends, ""))
        found.append(end)
        if end.by_hand == ANSWERED:
            runs[number] = msgspec.structs.replace(run, ended=BY_HAND)
    return msgspec.structs.replace(line, runs=tuple(runs)), tuple(found)


def _end(
    ended: float, following: float, before: Sequence[LogEvent], behind: Sequence[LogEvent]
) -> SilentEndResult:
    """What is known of one end.

    Args:
        ended: the last sign of life; `following` the start behind it.
        before, behind: events of the last minutes, and those behind the next start.
    """
    last = [event for event in before if not event.earlier]
    signs = tuple(dict.fromkeys(_SIGNS[event.kind] for event in last if event.kind in _SIGNS))
    reset = next((each.name for each in behind if each.kind is EventKind.RESET_REASON), "")
    key = next((each for each in reversed(last) if each.kind is EventKind.POWER_KEY), None)
    key = key if key is not None and ended - key.at <= _KEY else None
    held = any(event.earlier and event.by_hand for event in behind)
    by_hand = _by_hand(key, told=held or _KEY_WORDS in reset, signs=signs)
    starts = (event for event in behind if event.kind is EventKind.START)
    words = next((event.words_before for event in starts if event.words_before), "")
    silence = following - ended
    return SilentEndResult(
        at=plain_time(ended),
        last=words,
        silent_seconds=round(silence, 1),
        signs=signs,
        reset=reset,
        watchdog=_WATCHDOG_WORDS in reset,
        by_hand=by_hand,
        says="; ".join(_sentences(silence, signs, reset, by_hand)),
    )


def _by_hand(key: LogEvent | None, *, told: bool, signs: tuple[str, ...]) -> str:
    if key is None:
        return "unknown" if told else ""
    if signs or key.previous is None:
        return "unknown"
    return ANSWERED if key.at - key.previous <= _ANSWERED else "hung"


def _sentences(silence: float, signs: tuple[str, ...], reset: str, by_hand: str) -> Iterator[str]:
    yield f"nothing for {_span(silence)} until the next start"
    if signs:
        yield f"shortly before: {', '.join(signs)}"
    if by_hand:
        yield _HANDS[by_hand]
    if reset:
        yield f"the processor says: {reset}"


_HANDS = {
    ANSWERED: "the power key was pressed while it still answered: no fault",
    "hung": "the power key was pressed after it had gone silent: it hung",
    "unknown": "somebody held the power key; whether it hung is not told",
}


def _span(seconds: float) -> str:
    for size, name in ((86_400, "days"), (3600, "hours"), (60, "minutes")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {name}"
    return f"{seconds:.0f} s"
