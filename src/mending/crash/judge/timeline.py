"""From events to runs: when the PC was started, how long it ran awake, and how each run ended.

Logs of one PC have several authors, and each tells a part: one that the system came up, one that
the run before did not end properly, a dump that the kernel stopped. Events are taken in the order
of time by a small machine that holds one run open. A start closes it; what is said of its end
counts by weight (a crash tells more than an unclean stop, that more than a clean end that was
begun), also where it is said only after the next start; a sign of life long after an end takes the
end back. Running time leaves sleep out: it is the clock by which failures are compared, for a PC
that is off cannot fail.
"""

import bisect
import math
from collections.abc import Iterable, Sequence

import msgspec

from mending.crash.read import LogEvent
from mending.knowledge import EventKind

_SAME_START = 300.0
"""Seconds within which different authors tell of one start."""
_TOLD_WITHIN = 3600.0
"""Seconds after a start in which it is said how the run before ended: saving a dump takes its
time.
"""
_STOPPING = 180.0
"""Longest way from the last word about stopping to the end; who still writes later did not stop."""
_FAILED = {"crash", "unclean"}
_CHANGES = {EventKind.INSTALLED, EventKind.REMOVED}


class Run(msgspec.Struct, frozen=True, kw_only=True):
    """One run, from a start to its end, in Unix seconds.

    Attributes:
        end: the last sign of life; the true end lies between it and the next start.
        ended: `clean unclean crash running unknown`.
        code: stop code of a crash, where it is told; `named`: the module that a dump names.
        told: the event that tells of a bad end, where it is the only word about it: no dump, no
            kernel's last lines.
        awake: stretches in which it was not asleep.
    """

    start: float
    end: float
    ended: str
    signed_in: bool = False
    code: int | None = None
    named: str = ""
    told: LogEvent | None = None
    awake: tuple[tuple[float, float], ...] = ()

    @property
    def failed(self) -> bool:
        """Whether it ended as it should not."""
        return self.ended in _FAILED


class Timeline(msgspec.Struct, frozen=True):
    """Runs in order, and the events that made them."""

    runs: tuple[Run, ...]
    events: tuple[LogEvent, ...]

    @property
    def seconds(self) -> float:
        """Running time in all, awake."""
        return sum(end - start for run in self.runs for start, end in run.awake)

    def clock(self) -> "Clock":
        """Running time against the time of the day."""
        return Clock([stretch for run in self.runs for stretch in run.awake])


class Clock:
    """Turns times into running seconds since the first start, and back. Times between runs count as
    the end of one.
    """

    def __init__(self, awake: Sequence[tuple[float, float]]) -> None:
        self._starts = [start for start, _ in awake]
        self._ends = [end for _, end in awake]
        self._before = [0.0]
        for start, end in awake:
            self._before.append(self._before[-1] + end - start)

    def running(self, at: float) -> float:
        """Running seconds up to a time."""
        place = bisect.bisect_right(self._starts, at) - 1
        if place < 0:
            return 0.0
        return self._before[place] + min(at, self._ends[place]) - self._starts[place]

    def time(self, running: float) -> float:
        """The time at which so many seconds had been run."""
        if not self._starts:
            return 0.0
        place = min(max(bisect.bisect_right(self._before, running) - 1, 0), len(self._starts) - 1)
        return min(self._starts[place] + running - self._before[place], self._ends[place])


class _Draft:
    """A run that is being read."""

    def __init__(self, at: float, by: str) -> None:
        self.start = self.last = at
        self.authors = {by}
        self.ended, self.code, self.named, self.signed_in = (
            "",
            None,
            "",
            False,
        )  # type: tuple[str, int | None, str, bool]
        self.told: list[LogEvent] = []
        self.begun = bool(by)
        self.only_changes = True
        self.asleep: list[tuple[float, float]] = []
        self.slept: float | None = None
        self.stopped: float | None = None

    def is_same(self, event: LogEvent) -> bool:
        """Whether another author tells of the start that this run began with."""
        return (
            not self.ended and event.by not in self.authors and event.at - self.start < _SAME_START
        )

    def take(self, event: LogEvent) -> None:
        """What an event of this run adds."""
        self.went_on(event.at)
        self.only_changes = self.only_changes and event.kind in _CHANGES
        match event.kind:
            case EventKind.SIGNED_IN:
                self.signed_in = True
            case EventKind.SLEEP:
                self.slept = event.at
            case EventKind.WAKE if self.slept is not None:
                self.asleep.append((self.slept, event.at))
                self.slept = None
        self.end_by(event)

    def end_by(self, event: LogEvent) -> None:
        """How it ended: a crash tells more than an unclean stop, and either more than a clean one
        that was begun.
        """
        match event.kind:
            case EventKind.CRASH:
                self.told.append(event)
                self.ended, self.stopped = "crash", None if event.earlier else event.at
                self.code, self.named = event.code or self.code, self.named or event.name
            case EventKind.UNCLEAN_STOP if self.ended != "crash":
                self.told.append(event)
                self.ended = "unclean"
            case EventKind.CLEAN_STOP if not self.ended:
                self.ended, self.stopped = "clean", event.at

    def went_on(self, at: float) -> None:
        """A sign of life: what was taken for the end long before was none; kernels survive some of
        their faults.
        """
        self.last = max(self.last, at)
        if (
            self.ended in {"clean", "crash"}
            and self.stopped is not None
            and at - self.stopped > _STOPPING
        ):
            self.ended = ""

    def run(self, next_start: float | None, otherwise: str) -> Run:
        """The finished run."""
        end = self.last if next_start is None else min(self.last, next_start)
        awake, at = [], self.start
        for slept, woke in self.asleep:
            awake.append((at, slept))
            at = woke
        awake.append((at, max(end, at)))
        only = self.told and all(event.earlier for event in self.told)
        return Run(
            start=self.start,
            end=end,
            ended=self.ended or otherwise,
            signed_in=self.signed_in,
            code=self.code,
            named=self.named,
            told=self.told[-1] if only else None,
            awake=tuple(stretch for stretch in awake if stretch[0] <= stretch[1]),
        )


def timeline(
    events: Iterable[LogEvent],
    first: float | None = None,
    last: float | None = None,
    alive: Iterable[float] = (),
) -> Timeline:
    """The runs that events tell of.

    Without any clean end in the records, how a run ended is not known unless something says so.

    Args:
        events: in any order.
        first, last: Unix seconds of the first and last entries of the records.
        alive: Unix seconds of other signs of life, such as the last entry of each file.
    """
    ordered = sorted(events, key=lambda event: event.at)
    drafts: list[_Draft] = []
    waiting: list[LogEvent] = []
    signs = sorted(alive)
    for event in ordered:
        _live(drafts, signs, event.at)
        if event.kind is EventKind.START:
            _start(drafts, event, waiting)
        elif event.earlier:
            _earlier(drafts, event, waiting)
        else:
            if not drafts:
                drafts.append(_Draft(first if first is not None else event.at, ""))
            drafts[-1].take(event)
    _live(drafts, signs, math.inf)
    if drafts and last is not None:
        drafts[-1].last = (
            max(drafts[-1].last, last) if drafts[-1].ended != "clean" else drafts[-1].last
        )
    # changes alone are no run: another system may have made them, or their log goes back further
    drafts = [draft for draft in drafts if draft.begun or not draft.only_changes]
    told = any(event.kind in {EventKind.CLEAN_STOP, EventKind.UNCLEAN_STOP} for event in ordered)
    runs = []
    for number, draft in enumerate(drafts):
        following = drafts[number + 1].start if number + 1 < len(drafts) else None
        otherwise = "running" if following is None else "unclean" if told else "unknown"
        runs.append(draft.run(following, otherwise))
    return Timeline(tuple(runs), tuple(ordered))


def _live(drafts: list[_Draft], signs: list[float], until: float) -> None:
    """Take the signs of life in front of a time in."""
    count = bisect.bisect_left(signs, until)
    for at in signs[:count]:
        if drafts and at >= drafts[-1].start:
            drafts[-1].went_on(at)
    del signs[:count]


def _start(drafts: list[_Draft], event: LogEvent, waiting: list[LogEvent]) -> None:
    """A new run, unless another author tells of the start that was just told of."""
    if drafts and drafts[-1].is_same(event):
        drafts[-1].authors.add(event.by)
        return
    if drafts and event.previous is not None:
        drafts[-1].went_on(event.previous)
    for ending in waiting:
        if drafts and event.at - ending.at < _TOLD_WITHIN:
            drafts[-1].end_by(ending)
    waiting.clear()
    drafts.append(_Draft(event.at, event.by))


def _earlier(drafts: list[_Draft], event: LogEvent, waiting: list[LogEvent]) -> None:
    """What is said of the run before: after a start of that one; in front of a start it waits for
    it.
    """
    if drafts and event.at - drafts[-1].start < _TOLD_WITHIN and not drafts[-1].ended:
        if len(drafts) > 1:
            drafts[-2].ended = "" if drafts[-2].ended == "clean" else drafts[-2].ended
            drafts[-2].end_by(event)
    else:
        waiting.append(event)
