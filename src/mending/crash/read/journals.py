"""Binary journals of systemd read to starts, events and crashes. Most entries tell nothing, so
their words are looked at for marks before anything is made of them.
"""

from ahocorasick_rs import BytesAhoCorasick, Implementation

from mending.crash.read import text_logs
from mending.crash.read.clocks import CLOCK_JUMP, clock_set
from mending.crash.read.events import EventClassifier, LogEvent
from mending.crash.read.file_read import FileRead
from mending.formats.evidence import kernel_log
from mending.formats.evidence.binary_journal import HEAD_BYTES, Entry, Journal, read_header, record
from mending.knowledge import Codes, EventKind
from mending.model import InputError, LogRecord, ReadError
from mending.source import Source

_MOST_EVENTS, _CRASH_LINES = 200_000, 200


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

    journal = Journal(read, source.size, header)
    reading = _Reading(name, journal, typist)
    notes = []
    try:
        reading.run()
    except InputError as error:
        notes.append(f"{name}: {error.says}")
    if journal.problems:
        problem = journal.problems[0]
        notes.append(f"{name}: damaged at offset {problem.offset}; what lies before it was read.")
    if reading.count < header.entries and not journal.problems:
        notes.append(f"{name}: {reading.count} of {header.entries} entries were found.")
    return FileRead(
        name=name,
        kind="journal",
        events=tuple(reading.events),
        crashes=tuple(text_logs.crashes_of_kernel(name, reading.said, codes)),
        first=reading.first,
        last=reading.last,
        notes=tuple(notes),
    )


class _Reading:
    """One walk through a journal."""

    def __init__(self, name: str, journal: Journal, typist: EventClassifier) -> None:
        self._name, self._journal, self._typist = name, journal, typist
        marks = [*kernel_log.BEGINNINGS, *(mark.strip() for mark in typist.marks)]
        self._marks = BytesAhoCorasick(
            [mark for mark in marks if mark], implementation=Implementation.DFA
        )
        self.events: list[LogEvent] = []
        self.said: list[LogRecord] = []
        self.first: float | None = None
        self.last: float | None = None
        self.count = 0

    def run(self) -> None:
        """Read to the end. Raises InputError."""
        boot, left, base = "", 0, 0.0
        for entry in self._journal.entries():
            self.count += 1
            at = entry.realtime / 1e6
            self.first = at if self.first is None else self.first
            if entry.boot != boot:
                self.events.append(_start(self._name, entry, self.count, self.last))
                boot = entry.boot
            elif abs(at - entry.monotonic / 1e6 - base) > CLOCK_JUMP:
                self.events.append(clock_set(self._name, self.count, at, entry.monotonic / 1e6))
            base = at - entry.monotonic / 1e6
            left = self._take(entry, left)
            self.last = at
            if len(self.events) >= _MOST_EVENTS:
                return

    def _take(self, entry: Entry, left: int) -> int:
        """One entry; returns how many lines behind the beginning of a crash are still due."""
        values = self._journal.values(entry)
        words = values.get(b"MESSAGE=", b"")
        by = values.get(b"SYSLOG_IDENTIFIER=") or values.get(b"_COMM=") or b""
        kernel = values.get(b"_TRANSPORT=") == b"kernel"
        hit = bool(self._marks.find_matches_as_indexes(by + b" " + words))
        if not hit and not (left and kernel):
            return left
        told = record(entry, values, self.count)
        if kernel and len(self.said) < _MOST_EVENTS:
            left = _CRASH_LINES if kernel_log.begins(told.text) else left
            if left:
                self.said.append(told)
                left -= 1
        event = self._typist.event(told, self._name, self.last) if hit else None
        if event is not None and event.kind is not EventKind.START:
            self.events.append(event)  # starts are told by the identifier of each
        return left


def _start(name: str, entry: Entry, number: int, previous: float | None) -> LogEvent:
    """A new start, told by its identifier; it began as long ago as its own clock says."""
    return LogEvent(
        at=(entry.realtime - entry.monotonic) / 1e6,
        kind=EventKind.START,
        file=name,
        line=number,
        by="journal",
        previous=previous,
        clock=0.0,
        says=f"the journal calls this start {entry.boot[:8]}",
    )
