"""Files brought to one calendar: the years that some do not write, and the zone of local time.

What is the same event in another file that writes both tells it: the same words, always the same
whole years, or the same whole quarters of an hour apart (an hour more in summer). Where nothing is
the same, a log is not older than the kernels that start in it: than the day when they were built,
and than the day when the package log has them installed.
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
