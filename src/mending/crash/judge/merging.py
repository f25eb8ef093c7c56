"""One event, however often it is written.

A kernel's line stands in two text logs and in the journal, an event in a log and in its export, a
file is added twice. What tells the same at the same time in *different* files is one event; within
one file everything counts, for a PC may well crash twice in a second.

Logs without a zone write local time. Where enough of what a file tells stands in a zoned record,
too, always the same whole quarters of an hour apart, the file is moved by them, and that is said.
"""

import re
from collections import Counter
from collections.abc import Iterable, Sequence

import msgspec

from mending.crash.read import FileRead, LogEvent
from mending.crash.results import CrashResult
from mending.knowledge import EventKind
from mending.model import plain_time, read_time

_SAME = 2.0
"""Seconds that two records of one event may differ by: each is stamped by whoever wrote it."""
_SAME_CLOCK = 0.001
"""The same on the kernel's own clock, which is part of what is written."""
_QUARTER, _MOST_SHIFT, _LEAST = 900.0, 26 * 3600.0, 3
_LOOKED_AT = 400
_KERNEL_TIME = re.compile(r"^\s*\[\s*\d+\.\d+\]\s*")


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
    moved, notes = _in_one_zone(reads)
    crashes = [crash for read in moved for crash in read.crashes]
    return Merged(
        tuple(moved),
        tuple(_events(event for read in moved for event in read.events)),
        tuple(_crashes(crashes)),
        len(crashes),
        tuple(notes),
    )


def _key(event: LogEvent) -> tuple[object, ...]:
    """What two records of one event have in common. Numbered entries are told by their number,
    others by their words.
    """
    numbered = event.by.rpartition(" ")[2].isdigit()
    words = event.by if numbered else _KERNEL_TIME.sub("", event.says)
    return event.kind, event.what, event.name, event.code, event.earlier, words


def _events(events: Iterable[LogEvent]) -> list[LogEvent]:
    """Each event once, in the order of time."""
    kept: list[LogEvent] = []
    open_ones: dict[tuple[object, ...], list[tuple[int, set[str]]]] = {}
    for event in sorted(events, key=lambda each: each.at):
        waiting = open_ones.setdefault(_key(event), [])
        if not _is_identified(event):
            waiting[:] = [row for row in waiting if event.at - kept[row[0]].at <= _SAME]
        same = next((row for row in waiting if event.file not in row[1]), None)
        if same is None:
            waiting.append((len(kept), {event.file}))
            kept.append(event)
            continue
        number, files = same
        files.add(event.file)
        one = kept[number]
        place = f"{event.file}, line {event.line}" if event.line else event.file
        kept[number] = msgspec.structs.replace(
            one,
            also=(*one.also, place),
            previous=_later(one.previous, event.previous),
        )
    return kept


def _is_identified(event: LogEvent) -> bool:
    """Whether its words hold the identifier of a start, which no other one has."""
    return event.kind is EventKind.START and event.by == "journal"


def _later(one: float | None, other: float | None) -> float | None:
    """The later of two signs of life."""
    known = [at for at in (one, other) if at is not None]
    return max(known, default=None)


def _crashes(crashes: Sequence[CrashResult]) -> list[CrashResult]:
    """Each crash once, in the order in which they were read; the fullest record of it counts."""
    kept: list[tuple[CrashResult, set[str]]] = []
    by_kind: dict[tuple[str, str, str], list[int]] = {}
    for crash in crashes:
        known = by_kind.setdefault((crash.kind, _plain(crash.headline), crash.code), [])
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
        return first is not None and second is not None and abs(first[0] - second[0]) <= _SAME
    if one.seconds is None or crash.seconds is None:
        return False
    return abs(one.seconds - crash.seconds) <= _SAME_CLOCK and one.symbol == crash.symbol


def _fullness(crash: CrashResult) -> tuple[int, int, bool]:
    return len(crash.modules), len(crash.trace), crash.at is not None


def _plain(headline: str) -> str:
    return _KERNEL_TIME.sub("", headline)


def _in_one_zone(reads: Sequence[FileRead]) -> tuple[list[FileRead], list[str]]:
    """Files without a zone moved to where others with one tell the same."""
    sure = [event for read in reads if read.zoned for event in read.events][:_LOOKED_AT]
    moved, notes = list[FileRead](), list[str]()
    for read in reads:
        shift = 0.0 if read.zoned or not sure else _shift(read.events[:_LOOKED_AT], sure)
        moved.append(_shifted(read, shift) if shift else read)
        if shift:
            hours = f"{abs(shift) / 3600:g} {'hour' if abs(shift) == 3600 else 'hours'}"
            side = "behind" if shift > 0 else "ahead of"
            notes.append(
                f"{read.name} writes local time, {hours} {side} the records that carry a zone."
            )
    return moved, notes


def _shift(events: Sequence[LogEvent], sure: Sequence[LogEvent]) -> float:
    """By how much a file has to be moved; 0 where nothing tells."""
    times: dict[tuple[object, ...], list[float]] = {}
    for event in sure:
        times.setdefault(_key(event), []).append(event.at)
    votes: Counter[float] = Counter()
    for event in events:
        near = {
            round((at - event.at) / _QUARTER) * _QUARTER
            for at in times.get(_key(event), ())
            if abs(at - event.at) <= _MOST_SHIFT
            and abs((at - event.at) - round((at - event.at) / _QUARTER) * _QUARTER) <= _SAME
        }
        votes.update(near)
    if not votes:
        return 0.0
    shift, count = max(votes.items(), key=lambda row: (row[1], -abs(row[0])))
    return shift if count >= _LEAST and count > votes.get(0.0, 0) else 0.0


def _shifted(read: FileRead, shift: float) -> FileRead:
    events = tuple(
        msgspec.structs.replace(
            event,
            at=event.at + shift,
            previous=None if event.previous is None else event.previous + shift,
        )
        for event in read.events
    )
    return msgspec.structs.replace(
        read,
        events=events,
        crashes=tuple(_shifted_crash(crash, shift) for crash in read.crashes),
        first=None if read.first is None else read.first + shift,
        last=None if read.last is None else read.last + shift,
        zoned=True,
    )


def _shifted_crash(crash: CrashResult, shift: float) -> CrashResult:
    read = read_time(crash.at) if crash.at is not None else None
    return crash if read is None else msgspec.structs.replace(crash, at=plain_time(read[0] + shift))
