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
import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from typing import NamedTuple

import msgspec

from mending.crash.read import FileRead, LogEvent, moved_by
from mending.crash.results import CrashResult
from mending.knowledge import EventKind
from mending.model import plain_time, read_time

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


# Files brought to one calendar: the years that some do not write, and the zone of local time.
#
# What is the same event in another file that writes both tells it: the same words, always the same
# whole years, or the same whole quarters of an hour apart (an hour more in summer). Where nothing
# is the same, a log is not older than the kernels that start in it: than the day when they were
# built, and than the day when the package log has them installed.


SAME = 2.0
"""Seconds that two records of one event may differ by: each is stamped by whoever wrote it."""
_QUARTER, _HOUR, _DAY, _MOST_SHIFT, _LEAST = 900.0, 3600.0, 86_400.0, 26 * 3600.0, 3
_LOOKED_AT = 4000
_MOST_YEARS, _NEIGHBOURS = 60, 40 * 86_400.0
_FIRST_DAY, _LAST_DAY = -62_000_000_000.0, 253_000_000_000.0
_KERNEL_TIME = re.compile(r"^\s*\[\s*\d+\.\d+\]\s*")
_VERSION = re.compile(r"^Linux version (\S+)")
_KERNEL_PACKAGE = re.compile(r"(?:linux-image|kernel(?:-core|-default)?)-(?:unsigned-)?(\d\S*)")
Move = Callable[[float], float]


def aligned(reads: Sequence[FileRead]) -> tuple[list[FileRead], list[str]]:
    """All files in one calendar, and what was done to them in sentences."""
    notes: list[str] = []
    dated = [read for read in reads if not read.yearless]
    in_years = [_in_year(read, dated, notes) if read.yearless else read for read in reads]
    sure = [event for read in in_years if read.zoned for event in read.events][:_LOOKED_AT]
    moved = [read if read.zoned or not sure else _in_zone(read, sure, notes) for read in in_years]
    return [_placed_by_others(read, moved) for read in moved], notes


def _placed_by_others(read: FileRead, reads: Sequence[FileRead]) -> FileRead:
    """Starts with a lying clock that this file cannot put right, at the times that another file
    knows them by: the same words with the same wrong stamp, in the same order.
    """
    starts = [event for event in read.events if event.kind is EventKind.START]
    known = _known_starts(other for other in reads if other is not read)
    rows = [known.get(event_key(start), []) for start in starts]
    is_open = [
        start.placed or (start.stamp is None and any(row.is_as(start) for row in same if row.lies))
        for start, same in zip(starts, rows, strict=True)
    ]
    if not any(is_open):
        return read
    moves, behind = list[float](), -math.inf
    for number, start in enumerate(starts):
        at = start.at
        if is_open[number]:
            later = zip(starts[number + 1 :], is_open[number + 1 :], strict=True)
            until = next((each.at for each, moving in later if not moving), math.inf)
            fitting = (
                row.at for row in rows[number] if behind < row.at < until and row.is_as(start)
            )
            at = next(fitting, at)
        moves.append(at - start.at)
        behind = at + SAME
    return moved_by(read, list(_for_each(read.events, moves)))


def _for_each(events: Sequence[LogEvent], moves: Sequence[float]) -> Iterator[float]:
    """What each event is moved by: as much as the start that it belongs to."""
    place = -1
    for event in events:
        place += event.kind is EventKind.START
        yield moves[place] if place >= 0 else 0.0


class _KnownStart(NamedTuple):
    """A start as another file knows it: its true time, what was written, whether that lies."""

    at: float
    written: float
    lies: bool

    def is_as(self, start: LogEvent) -> bool:
        """Whether a start of the same words was written at the same time."""
        written = start.at if start.stamp is None else start.stamp
        return abs(self.written - written) <= SAME


def _known_starts(reads: Iterable[FileRead]) -> dict[tuple[object, ...], list[_KnownStart]]:
    """Starts of whose time files are sure, by their words, in the order of time."""
    found: dict[tuple[object, ...], list[_KnownStart]] = {}
    for read in reads:
        for event in read.events:
            if event.kind is EventKind.START and not event.placed:
                lies = event.stamp is not None
                written = event.at if event.stamp is None else event.stamp
                row = _KnownStart(event.at, written, lies)
                found.setdefault(event_key(event), []).append(row)
    return {key: sorted(rows) for key, rows in found.items()}


def event_key(event: LogEvent) -> tuple[object, ...]:
    """What two records of one event have in common. Numbered entries are told by their number,
    others by their words.
    """
    numbered = event.by.rpartition(" ")[2].isdigit()
    words = event.by if numbered else without_clock(event.says)
    return event.kind, event.what, event.name, event.code, event.earlier, words


def kernel_version(words: str) -> str:
    """The version of a kernel by the first line that it writes; empty for other lines."""
    match = _VERSION.match(without_clock(words))
    return match.group(1) if match is not None else ""


def without_clock(words: str) -> str:
    """Words of a kernel without the time that stands in front of them."""
    return _KERNEL_TIME.sub("", words)


def _in_year(read: FileRead, dated: Sequence[FileRead], notes: list[str]) -> FileRead:
    """A log without years in the year in which its neighbours and its kernels have it."""
    by = "by the records beside it"
    years = _same_events(read, dated)
    if years is None:
        years, by = _newer_than_kernels(read, dated), "by the kernels that start in it"
    if not years:
        years, by = _beside(read, dated), "by the records beside it"
    if not years:
        return read
    moved = _mapped(read, lambda at: _years_on(at, years), read.zoned)
    span = sorted({plain_time(at)[:4] for at in (moved.first, moved.last) if at is not None})
    notes.append(f"{read.name} writes no year; it is taken for {' and '.join(span)}, {by}.")
    return moved


def _same_events(read: FileRead, dated: Sequence[FileRead]) -> int | None:
    """By how many years it has to be moved; None where too little is the same."""
    times = _times_by_key(event for other in dated for event in other.events)
    votes: Counter[int] = Counter()
    for event in read.events[:_LOOKED_AT]:
        near = {
            years
            for at in times.get(event_key(event), ())
            for years in (_year(at) - _year(event.at),)
            if abs(years) <= _MOST_YEARS and abs(at - _years_on(event.at, years)) <= _MOST_SHIFT
        }
        votes.update(near)
    years, count = max(votes.items(), key=lambda row: (row[1], -abs(row[0])), default=(0, 0))
    return years if count >= _LEAST else None


def _newer_than_kernels(read: FileRead, dated: Sequence[FileRead]) -> int:
    """Years by which a log lies before the kernels that start in it."""
    installed = {
        match.group(1): event.at
        for other in dated
        for event in reversed(other.events)  # the first time counts
        if event.kind is EventKind.INSTALLED
        and event.what == "program"  # no upgrade: it may have been there before
        and (match := _KERNEL_PACKAGE.match(event.name))
    }
    bounds = [(event.at, event.built) for event in read.events if event.built is not None]
    for event in read.events:
        version = kernel_version(event.says)
        if version in installed:
            bounds.append((event.at, installed[version]))
    years = 0
    for at, earliest in bounds:
        while years < _MOST_YEARS and _years_on(at, years) < earliest - _DAY:
            years += 1
    return years


def _beside(read: FileRead, dated: Sequence[FileRead]) -> int:
    """Years by which a log has to be moved to lie where the others do; 0 where that is not one
    number.
    """
    spans = [
        (other.first, other.last)
        for other in dated
        if other.events and other.first is not None and other.last is not None
    ]
    if not spans or read.first is None or read.last is None:
        return 0
    first = min(span[0] for span in spans) - _NEIGHBOURS
    last = max(span[1] for span in spans) + _NEIGHBOURS
    fitting = [
        years
        for years in range(-_MOST_YEARS, _MOST_YEARS + 1)
        if _years_on(read.last, years) >= first and _years_on(read.first, years) <= last
    ]
    return 0 if 0 in fitting or len(fitting) != 1 else fitting[0]


def _year(at: float) -> int:
    return _day(at).year


def _day(at: float) -> datetime:
    """A time of the calendar; what it does not have is its first or last day."""
    return datetime.fromtimestamp(min(max(at, _FIRST_DAY), _LAST_DAY), UTC)


def _years_on(at: float, years: int) -> float:
    """The same day and time of another year; 29 February becomes the day before."""
    time = _day(at)
    year = min(max(time.year + years, 1), 9999)
    try:
        return time.replace(year=year).timestamp()
    except ValueError:
        return time.replace(year=year, day=28).timestamp()


def _times_by_key(events: Iterable[LogEvent]) -> dict[tuple[object, ...], list[float]]:
    times: dict[tuple[object, ...], list[float]] = {}
    for event in events:
        times.setdefault(event_key(event), []).append(event.at)
    return times


def _in_zone(read: FileRead, sure: Sequence[LogEvent], notes: list[str]) -> FileRead:
    """A file without a zone moved to where others with one tell the same."""
    apart = list(_shifts(read.events[:_LOOKED_AT], _times_by_key(sure)))
    votes = Counter(shift for _, near in apart for shift in near)
    shift, count = max(votes.items(), key=lambda row: (row[1], -abs(row[0])), default=(0.0, 0))
    summer = max((shift - _HOUR, shift + _HOUR), key=lambda other: votes.get(other, 0))
    two = votes.get(summer, 0) >= _LEAST and count >= _LEAST
    if not two and (not shift or count < _LEAST or count <= votes.get(0.0, 0)):
        return read
    allowed = (shift, summer) if two else (shift,)
    known = [
        (at, next(one for one in allowed if one in near))
        for at, near in apart
        if not near.isdisjoint(allowed)
    ]
    notes.append(f"{read.name} writes local time, {_hours(shift)} the records that carry a zone.")
    if two:
        notes[-1] = f"{notes[-1][:-1]}, and {_hours(summer)} them for a part of the year."
    return _mapped(read, lambda at: at + _nearest(known, at), zoned=True)


def _shifts(
    events: Sequence[LogEvent], times: dict[tuple[object, ...], list[float]]
) -> Iterator[tuple[float, set[float]]]:
    """For each event that others tell, its time and the whole quarters that it is apart."""
    for event in events:
        near = set()
        for at in times.get(event_key(event), ()):
            whole = round((at - event.at) / _QUARTER) * _QUARTER
            if abs(whole) <= _MOST_SHIFT and abs(at - event.at - whole) <= SAME:
                near.add(whole)
        if near:
            yield event.at, near


def _hours(shift: float) -> str:
    hours = f"{abs(shift) / _HOUR:g} {'hour' if abs(shift) == _HOUR else 'hours'}"
    return f"{hours} {'behind' if shift > 0 else 'ahead of'}" if shift else "level with"


def _nearest(known: Sequence[tuple[float, float]], at: float) -> float:
    """The shift of the known event that is nearest in time."""
    place = bisect.bisect_left(known, at, key=lambda row: row[0])
    return min(known[max(place - 1, 0) : place + 1], key=lambda row: abs(row[0] - at))[1]


def _mapped(read: FileRead, move: Move, zoned: bool) -> FileRead:
    """A file with all its times moved."""

    def maybe(at: float | None) -> float | None:
        return None if at is None else move(at)

    def crash_moved(crash: CrashResult) -> CrashResult:
        at = read_time(crash.at) if crash.at is not None else None
        return crash if at is None else msgspec.structs.replace(crash, at=plain_time(move(at[0])))

    events = tuple(
        msgspec.structs.replace(event, at=move(event.at), previous=maybe(event.previous))
        for event in read.events
    )
    return msgspec.structs.replace(
        read,
        events=events,
        crashes=tuple(map(crash_moved, read.crashes)),
        first=maybe(read.first),
        last=maybe(read.last),
        zoned=zoned,
    )


# One event, however often it is written.
#
# A kernel's line stands in two text logs and in the journal, an event in a log and in its export, a
# file is added twice. What tells the same at the same time in *different* files is one event;
# within one file everything counts, for a PC may well crash twice in a second.


_SAME_CLOCK = 0.001
"""Seconds that the kernel's own clock may differ by, which is part of what is written."""


class Merged(msgspec.Struct, frozen=True):
    """What all files tell together.

    Attributes:
        written: how often crashes are written down in all.
    """

    reads: tuple[FileRead, ...]
    events: tuple[LogEvent, ...]
    crashes: tuple[CrashResult, ...]
    written: int
    notes: tuple[str, ...]


def merge(reads: Sequence[FileRead]) -> Merged:
    """Put the records of one PC together."""
    moved, notes = aligned(reads)
    crashes = [crash for read in moved for crash in read.crashes]
    return Merged(
        tuple(moved),
        tuple(_events(event for read in moved for event in read.events)),
        tuple(_crashes(crashes)),
        len(crashes),
        tuple(notes),
    )


def _events(events: Iterable[LogEvent]) -> list[LogEvent]:
    """Each event once, in the order of time."""
    kept: list[LogEvent] = []
    open_ones: dict[tuple[object, ...], list[tuple[int, set[str]]]] = {}
    for event in sorted(events, key=lambda each: each.at):
        waiting = open_ones.setdefault(event_key(event), [])
        if not _is_identified(event):
            waiting[:] = [row for row in waiting if event.at - kept[row[0]].at <= SAME]
        same = next((row for row in waiting if event.file not in row[1]), None)
        if same is None:
            waiting.append((len(kept), {event.file}))
            kept.append(event)
            continue
        number, files = same
        files.add(event.file)
        one = kept[number]
        place = f"{event.file}, line {event.line}" if event.line else event.file
        later = (event.previous or 0.0) > (one.previous or 0.0)
        kept[number] = msgspec.structs.replace(
            one,
            also=(*one.also, place),
            previous=event.previous if later else one.previous,
            words_before=event.words_before if later else one.words_before,
        )
    return kept


def _is_identified(event: LogEvent) -> bool:
    """Whether its words hold the identifier of a start, which no other one has."""
    return event.kind is EventKind.START and event.by == "journal"


def _crashes(crashes: Sequence[CrashResult]) -> list[CrashResult]:
    """Each crash once, in the order in which they were read; the fullest record of it counts."""
    kept: list[tuple[CrashResult, set[str]]] = []
    by_kind: dict[tuple[str, str, str], list[int]] = {}
    for crash in crashes:
        known = by_kind.setdefault((crash.kind, without_clock(crash.headline), crash.code), [])
        same = next((at for at in known if _is_same(kept[at], crash)), None)
        if same is None:
            known.append(len(kept))
            kept.append((crash, {crash.file}))
            continue
        one, files = kept[same]
        fuller, other = (crash, one) if _fullness(crash) > _fullness(one) else (one, crash)
        place = f"{other.file}, line {other.line}" if other.line else other.file
        also = (*one.also, *crash.also, place)
        kept[same] = (
            msgspec.structs.replace(fuller, also=also, at=fuller.at or other.at),
            files | {crash.file},
        )
    return [crash for crash, _ in kept]


def _is_same(known: tuple[CrashResult, set[str]], crash: CrashResult) -> bool:
    one, files = known
    if crash.file in files:
        return False
    if one.at is not None and crash.at is not None:
        first, second = read_time(one.at), read_time(crash.at)
        return first is not None and second is not None and abs(first[0] - second[0]) <= SAME
    if one.seconds is None or crash.seconds is None:
        return False
    return abs(one.seconds - crash.seconds) <= _SAME_CLOCK and one.symbol == crash.symbol


def _fullness(crash: CrashResult) -> tuple[int, int, bool]:
    return len(crash.modules), len(crash.trace), crash.at is not None
