"""One event, however often it is written.

A kernel's line stands in two text logs and in the journal, an event in a log and in its export, a
file is added twice. What tells the same at the same time in *different* files is one event; within
one file everything counts, for a PC may well crash twice in a second.
"""

from collections.abc import Iterable, Sequence

import msgspec

from mending.crash.judge.alignment import SAME, aligned, event_key, without_clock
from mending.crash.read import FileRead, LogEvent
from mending.crash.results import CrashResult
from mending.knowledge import EventKind
from mending.model import read_time

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
