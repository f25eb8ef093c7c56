"""Binary journals of systemd read to starts, events and crashes. Most entries tell nothing, so the
file is searched for marks, and only what holds one is looked at; a file that cannot be searched is
walked entry by entry.
"""

import msgspec
from ahocorasick_rs import BytesAhoCorasick, Implementation

from mending.crash.read import text_logs
from mending.crash.read.clocks import CLOCK_JUMP, clock_set
from mending.crash.read.events import EventClassifier, LogEvent
from mending.crash.read.file_read import FileRead
from mending.formats.evidence import binary_journal, kernel_log
from mending.formats.evidence.binary_journal import (
    HEAD_BYTES,
    Entry,
    Journal,
    JournalHeader,
    read_header,
    record,
)
from mending.knowledge import Codes, EventKind
from mending.model import InputError, LogRecord, ReadError, clean_text
from mending.source import Source

_MOST_EVENTS, _CRASH_LINES = 200_000, 200
_FOLLOWING = 4000
"""Entries behind the beginning of a crash among which its lines are."""


def read_journal(name: str, source: Source, typist: EventClassifier, codes: Codes) -> FileRead:
    """What a journal tells. Damage is said in the notes; what lies before it counts."""
    header = read_header(source.read(0, HEAD_BYTES).data)
    if header is None:
        says = f"{name}: a journal of a kind that is not read here."
        return FileRead(name=name, kind="journal", notes=(says,))

    def read(offset: int, length: int) -> bytes:
        try:
            return source.read(offset, length).data
        except ReadError:
            return b""  # what cannot be read is as good as cut off

    reading = _Reading(name, Journal(read, source.size, header), typist)
    notes = []
    try:
        reading = _read(reading, source.size, header)
    except InputError as error:
        notes.append(f"{name}: {error.says}")
    problems = reading.journal.problems
    if problems:
        notes.append(
            f"{name}: damaged at offset {problems[0].offset}; what lies before it was read."
        )
    if reading.count < header.entries and not problems:
        notes.append(f"{name}: {reading.count} of {header.entries} entries were found.")
    return FileRead(
        name=name,
        kind="journal",
        events=tuple(reading.events),
        crashes=tuple(text_logs.crashes_of_kernel(name, reading.said, codes)),
        first=reading.first,
        last=reading.last,
        last_words=reading.words_of(reading.at_end) if reading.at_end else "",
        notes=tuple(notes),
    )


def _read(reading: "_Reading", size: int, header: JournalHeader) -> "_Reading":
    """Search, else walk."""
    longest = max(map(len, reading.marks))
    table = binary_journal.search(reading.journal, size, reading.find, longest)
    if table is not None:
        _take_found(reading, table)
        return reading
    walking = _Reading(reading.name, Journal(reading.journal.read, size, header), reading.typist)
    before: float | None = None
    for number, entry in enumerate(walking.journal.entries()):
        walking.take(number, entry, before)
        walking.in_front = walking.at_end = entry.offset
        before = walking.last = entry.realtime / 1e6
        walking.count = number + 1
    return walking


def _take_found(reading: "_Reading", table: binary_journal.EntryTable) -> None:
    """Entries with a mark, those behind them that may belong to a crash, and those in front of
    which the start or the clock is another.
    """
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    base = table.realtimes.astype(np.int64) - table.monotonics.astype(np.int64)
    turns = np.any(table.boots[1:] != table.boots[:-1], axis=1)
    turns |= np.abs(np.diff(base)) > CLOCK_JUMP * 1e6
    reading.count, reading.last = len(base), float(table.realtimes[-1]) / 1e6
    reading.at_end = int(table.offsets[-1])
    following = 0
    for first in sorted({0, *(np.flatnonzero(turns) + 1).tolist(), *table.hits}):
        for number in range(max(first, following), min(first + _FOLLOWING, len(base))):
            entry = reading.journal.entry(int(table.offsets[number]))
            if entry is None:
                return
            before = float(table.realtimes[number - 1]) / 1e6 if number else None
            if number and turns[number - 1]:
                reading.in_front = int(table.offsets[number - 1])
            following = number + 1
            if not reading.take(number, entry, before):
                break


class _Reading:
    """What the entries of a journal come to."""

    def __init__(self, name: str, journal: Journal, typist: EventClassifier) -> None:
        self.name, self.journal, self.typist = name, journal, typist
        marks = [*kernel_log.BEGINNINGS, *(mark.strip() for mark in typist.marks)]
        self.marks = tuple(mark for mark in marks if mark)
        self._machine = BytesAhoCorasick(self.marks, implementation=Implementation.DFA)
        self.events: list[LogEvent] = []
        self.said: list[LogRecord] = []
        self.first: float | None = None
        self.last: float | None = None
        self.count = 0
        self.at_end = 0
        self.in_front = 0  # where the entry before the next start is
        self._boot, self._base, self._left = "", 0.0, 0

    def find(self, data: bytes) -> list[int]:
        """Where marks are."""
        return [place for _, place, _ in self._machine.find_matches_as_indexes(data)]

    def take(self, number: int, entry: Entry, before: float | None) -> bool:
        """An entry that may tell something; says whether those behind it may belong to a crash.

        Args:
            number: of the entry, from 0.
            before: time of the one in front of it, in Unix seconds.
        """
        at, clock = entry.realtime / 1e6, entry.monotonic / 1e6
        self.first = at if self.first is None else self.first
        if len(self.events) >= _MOST_EVENTS:
            return False
        if entry.boot != self._boot:
            start = _start(self.name, entry, number + 1, before)
            words = self.words_of(self.in_front) if self.in_front else ""
            self.events.append(msgspec.structs.replace(start, words_before=words))
            self._boot, self._left = entry.boot, 0
        elif abs(at - clock - self._base) > CLOCK_JUMP:
            self.events.append(clock_set(self.name, number + 1, at, clock))
        self._base = at - clock
        self._look_at(number, entry, before)
        return self._left > 0

    def words_of(self, offset: int) -> str:
        """What an entry says, and who says it."""
        entry = self.journal.entry(offset)
        if entry is None:
            return ""
        told = record(entry, self.journal.values(entry), 0)
        return clean_text(f"{told.by}: {told.text}" if told.by else told.text, 200)

    def _look_at(self, number: int, entry: Entry, before: float | None) -> None:
        values = self.journal.values(entry)
        words = values.get(b"MESSAGE=", b"")
        by = values.get(b"SYSLOG_IDENTIFIER=") or values.get(b"_COMM=") or b""
        kernel = values.get(b"_TRANSPORT=") == b"kernel"
        hit = bool(self._machine.find_matches_as_indexes(by + b" " + words))
        if not hit and not (self._left and kernel):
            return
        told = record(entry, values, number + 1)
        if kernel and len(self.said) < _MOST_EVENTS:
            self._left = _CRASH_LINES if kernel_log.begins(told.text) else self._left
            if self._left:
                self.said.append(told)
                self._left -= 1
        event = self.typist.event(told, self.name, before) if hit else None
        if event is not None and event.kind is not EventKind.START:
            self.events.append(event)  # starts are told by the identifier of each


def _start(name: str, entry: Entry, number: int, previous: float | None) -> LogEvent:
    """A new start, told by its identifier; it began as long ago as its own clock says."""
    return LogEvent(
        at=(entry.realtime - entry.monotonic) / 1e6,
        kind=EventKind.START,
        name=entry.boot,
        file=name,
        line=number,
        by="journal",
        previous=previous,
        clock=0.0,
        says=f"the journal calls this start {entry.boot[:8]}",
    )
