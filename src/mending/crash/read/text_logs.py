"""Text logs of any length: crashes of kernels and typed events, read in pieces and only near what
tells something.
"""

import itertools
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from itertools import islice
from typing import BinaryIO, NamedTuple

import msgspec
from ahocorasick_rs import BytesAhoCorasick, Implementation

from mending.crash.lookup import look_up
from mending.crash.read.clocks import CLOCK_JUMP, clock_set
from mending.crash.read.events import EventClassifier, FileRead, LogEvent
from mending.crash.results import CrashResult
from mending.formats import journal, kernel_text
from mending.formats.journal import HEAD_BYTES, Entry, Journal, JournalHeader, read_header, record
from mending.formats.kernel_text import KernelCrash, Line
from mending.knowledge import Codes, EventKind
from mending.model import InputError, LogRecord, ReadError, clean_text, plain_time
from mending.source import Source

# Lines of a text log that may tell something, out of files of any size: all marks are looked for
# in one pass.


_PIECE = 256 * 1024
_FOLLOWING = 200
"""Lines behind a beginning that are read one by one; a crash has under a hundred."""

Reread = Callable[[int, int], bytes]
"""The bytes from one offset of the log up to another, read again."""


class NearbyLine(NamedTuple):
    """A line that counts.

    Attributes:
        before: the line in front of it, where it is at hand.
        begins: it, or a line shortly before it, may begin a crash.
        marked: it holds a mark. Neither: it is the first or the last line of the log.
    """

    number: int
    line: bytes
    before: bytes
    begins: bool
    marked: bool


class Scanner:
    """Looks for two sets of marks: those that begin a crash, and others.

    Args:
        beginnings: bytes of which a line that begins a crash holds one.
        marks: bytes of which a line that tells something else holds one.
    """

    def __init__(self, beginnings: Sequence[bytes], marks: Sequence[bytes]) -> None:
        self._beginnings = len(beginnings)
        self._machine = BytesAhoCorasick([*beginnings, *marks], implementation=Implementation.DFA)

    def near_lines(self, stream: BinaryIO, reread: Reread | None) -> Iterator[NearbyLine]:
        """The lines that count, in order. A line longer than a piece is cut.

        Args:
            stream: the log from its beginning.
            reread: where it can be read again, lines of silent stretches are counted only when
                something follows.
        """
        number, left, rest, at, counted = 0, 0, b"", 0, 0
        tail = b""
        while piece := stream.read(_PIECE):
            whole, rest = _cut(rest + piece)
            start, at = at, at + len(whole)
            if not start and whole:
                yield NearbyLine(1, whole.split(b"\n", 1)[0], b"", False, False)
            hits = [
                (place, which < self._beginnings)
                for which, place, _ in self._machine.find_matches_as_indexes(whole)
            ]
            if hits or left or reread is None:
                number += _lines(reread, counted, start) if reread else 0
                number, left, found = _near(whole, hits, number, left, tail)
                yield from found
                counted = at
            tail = whole[-4096:] or tail
        if rest:
            number += _lines(reread, counted, at) if reread else 0
            hits = [
                (place, which < self._beginnings)
                for which, place, _ in self._machine.find_matches_as_indexes(rest)
            ]
            yield from _near(rest, hits, number, left, tail)[2]
        last = rest or tail.rstrip(b"\n").rpartition(b"\n")[2]
        if last:
            yield NearbyLine(0, last, b"", False, False)


def _cut(data: bytes) -> tuple[bytes, bytes]:
    """Whole lines, and the beginning of the next one."""
    end = data.rfind(b"\n") + 1
    return (data[:end], data[end:]) if end or len(data) < _PIECE else (data, b"")


def _near(
    whole: bytes, hits: list[tuple[int, bool]], number: int, left: int, tail: bytes
) -> tuple[int, int, list[NearbyLine]]:
    """Line ends up to behind the piece, lines still due, and the lines with hits and those behind a
    beginning.

    Args:
        number: line ends in front of the piece. left: lines still due behind a beginning.
    """
    found: list[NearbyLine] = []
    at, place = 0, 0
    while at < len(whole):
        if not left:
            if place >= len(hits):
                break
            line_at = max(whole.rfind(b"\n", 0, hits[place][0]) + 1, at)
            number += whole.count(b"\n", at, line_at)
            at = line_at
        end = whole.find(b"\n", at)
        end = len(whole) if end < 0 else end
        marked = begins = False
        while place < len(hits) and hits[place][0] < end:
            marked, begins = True, begins or hits[place][1]
            place += 1
        left = _FOLLOWING if begins else left
        before = whole[max(at - 4096, 0) : max(at - 1, 0)] if at else tail.rstrip(b"\n")
        found.append(
            NearbyLine(number + 1, whole[at:end], before.rpartition(b"\n")[2], left > 0, marked)
        )
        left = max(left - 1, 0)
        number += end < len(whole)
        at = end + 1
    return number + whole.count(b"\n", at), left, found


def _lines(reread: Reread, start: int, end: int) -> int:
    return sum(reread(at, min(at + _PIECE, end)).count(b"\n") for at in range(start, end, _PIECE))


# The years of a log that writes none.


_DAY = 86_400.0
_MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")
_FIRST_DAY = re.compile(r"^Jan {1,2}0?1 ")
_BACK, _LEAP, _LATE = 6, 2, 11
"""Months by which a new year falls back, from which a leap is none of the calendar's, and from
which on in a year the next one may begin unseen.
"""


class Years:
    """The year of each line: it grows where the months begin again.

    A clock without a battery begins anew with January, too. Such lines are told by the leap with
    which the clock is set right again, or by coming on the first day of January out of the middle
    of a year; they say nothing of years.

    Args:
        shorts: the times of all lines, without years.
        modified: Unix seconds at which the file was written last: its lines are not after that.
    """

    def __init__(self, shorts: Sequence[str], modified: float) -> None:
        self._strays = _strays(shorts)
        months = [
            _month(short) for number, short in enumerate(shorts) if number not in self._strays
        ]
        turns = sum(later < month - _BACK for month, later in itertools.pairwise(months))
        last = datetime.fromtimestamp(modified + _DAY, UTC)
        ends = last.year if not months or months[-1] <= last.month else last.year - 1
        self.year, self._month = ends - turns, months[0] if months else 1
        self._number = -1

    def next(self, short: str) -> int:
        """The year of the next line."""
        if short:
            self._number += 1
        if short and self._number not in self._strays:
            month = _month(short)
            self.year += month < self._month - _BACK
            self._month = month
        return self.year


def _strays(shorts: Sequence[str]) -> set[int]:
    """Lines of clocks that began anew, by number."""
    months = [_month(short) for short in shorts]
    found = set[int]()
    for number in range(1, len(months)):
        before = months[number - 1]
        if months[number] >= before - _BACK or number in found:
            continue
        end = number + 1
        while end < len(months) and 0 <= months[end] - months[end - 1] < _LEAP:
            end += 1
        leaps_back = end < len(months) and months[end] >= before
        unseen = before < _LATE and _FIRST_DAY.match(shorts[number]) is not None
        if leaps_back or unseen:
            found.update(range(number, end))
    return found


def _month(short: str) -> int:
    name = short[:3]
    return _MONTHS.index(name) + 1 if name in _MONTHS else 1


_MOST, _MOST_LINES = 1000, 200_000
_MACHINERY = {
    "dump_stack_lvl",
    "dump_stack",
    "panic",
    "show_stack",
    "die",
    "__die",
    "oops_end",
    "exc_page_fault",
    "asm_exc_page_fault",
    "page_fault_oops",
    "do_exit.cold",
}
"""Functions that report a crash; who calls them is what counts."""
_NOTHING = LogRecord(at=None)
_BANK = re.compile(r"Bank (\d+): ?([0-9a-f]+)")


class LogRead(msgspec.Struct, frozen=True, kw_only=True):
    """What a text log tells; times of its first and last line in Unix seconds."""

    crashes: tuple[CrashResult, ...]
    events: tuple[LogEvent, ...]
    first: float | None
    last: float | None
    zoned: bool
    yearless: bool
    notes: tuple[str, ...]


def read_log(
    name: str,
    stream: BinaryIO,
    source: Source | None,
    typist: EventClassifier,
    codes: Codes,
    modified: float,
) -> LogRead:
    """Read a log to its end.

    Args:
        source: the same log, where any place of it can be read again.
        modified: Unix seconds; times without a year are not after it.
    """
    scanner = Scanner(kernel_text.BEGINNINGS, typist.marks)
    seen: list[_Seen] = []
    reread = (
        (lambda start, end: source.read(start, end - start).data) if source is not None else None
    )
    crashes = []
    for crash in kernel_text.read_crashes(
        _crash_lines(scanner.near_lines(stream, reread), seen, typist)
    ):
        crashes.append(crash)
        if len(crashes) >= _MOST:
            break
    years = Years([entry.line.short for entry in seen if entry.line.short], modified)
    events, times = [], {}
    for entry in seen:
        record = kernel_text.with_year(entry.line, years.next(entry.line.short))
        times[record.line] = record.at
        before = (
            kernel_text.with_year(entry.before, years.year)
            if entry.before is not None
            else _NOTHING
        )
        words = f"{before.by}: {before.text}" if before.by else before.text
        event = typist.event(record, name, before.at, words) if not entry.edge else None
        if event is not None:
            events.append(event)
    known = [at for at in times.values() if at is not None]
    notes = (
        (f"{name}: only the first {_MOST_LINES} telling lines count.",)
        if len(seen) >= _MOST_LINES
        else ()
    )
    return LogRead(
        crashes=tuple(_result(name, crash, codes, times.get(crash.line)) for crash in crashes),
        events=tuple(events),
        first=known[0] if known else None,
        last=known[-1] if known else None,
        zoned=all(entry.line.record.zoned and not entry.line.short for entry in seen),
        yearless=any(entry.line.short for entry in seen),
        notes=notes,
    )


class _Seen(msgspec.Struct, frozen=True):
    """A line with its time and the line before it. An edge, the first or last line, is there for
    its time alone.
    """

    line: Line
    before: Line | None
    edge: bool


def _crash_lines(
    lines: Iterator[NearbyLine], seen: list[_Seen], typist: EventClassifier
) -> Iterator[tuple[int, bytes]]:
    """Lines for the reader of crashes; those that carry marks, the first and the last are kept in
    `seen` on the way.
    """
    for near in lines:
        if (near.marked or not near.begins) and len(seen) < _MOST_LINES:
            line = kernel_text.read_line(near.line, near.number)
            dated = line.short or line.record.at is not None
            edge = bool(not near.marked and dated)
            if edge or (near.marked and dated and (near.begins or typist.tells(line.record))):
                seen.append(
                    _Seen(
                        line, kernel_text.read_line(near.before, 0) if near.before else None, edge
                    )
                )
        if near.begins:
            yield near.number, near.line


def darwin_crash(name: str, data: bytes, codes: Codes) -> CrashResult | None:
    """The panic of a Darwin report; None where there is none in it."""
    report = kernel_text.read_panic(data)
    if report is None:
        return None
    known = next(
        (match for match in look_up(report.headline, codes).matches if match.kind == "message"),
        None,
    )
    guests = [extension for extension in report.extensions if not extension.own]
    first = (guests or list(report.extensions))[:1]
    marks = tuple(
        f"{extension.name} {extension.version} is in the backtrace and not the system's own"
        for extension in guests
    )
    return CrashResult(
        file=name,
        line=report.line,
        kind="panic",
        headline=report.headline,
        module=first[0].name if first else "",
        program=report.program,
        version=report.version,
        marks=(*marks, *report.last),
        trace=tuple(extension.name for extension in report.extensions),
        says=known.says if known else "",
        phase=known.phase if known else "",
        suspects=(
            ("driver", "added-software")
            if guests
            else known.suspects
            if known
            else ("driver", "memory")
        ),
    )


def crashes_of_kernel(name: str, said: list[LogRecord], codes: Codes) -> Iterator[CrashResult]:
    """The crashes in what a kernel said, entry by entry. Args: said: entries from the beginnings of
    crashes on.
    """
    times = {record.line: record.at for record in said}
    lines = ((record.line, record.text.encode()) for record in said)
    yield from (
        _result(name, crash, codes, times.get(crash.line))
        for crash in islice(kernel_text.read_crashes(lines), _MOST)
    )


def _hardware(crash: KernelCrash) -> Iterator[str]:
    """What a record of the hardware says, the states of banks in words."""
    for text in crash.hardware:
        state = _BANK.match(text)
        words = kernel_text.state_says(int(state.group(2), 16)) if state else ""
        yield f"bank {state.group(1)}: {words}" if state and words else text


def _result(name: str, crash: KernelCrash, codes: Codes, at: float | None) -> CrashResult:
    readings = [
        match for text in (crash.headline, crash.reason) for match in look_up(text, codes).matches
    ]
    known = next(
        (match for match in readings if match.kind == "message" and match.confidence == "certain"),
        None,
    )
    trace = [call for call in crash.trace if call.sure and call.symbol not in _MACHINERY]
    outside = crash.module or next((call.module for call in trace if call.module), "")
    return CrashResult(
        file=name,
        line=crash.line,
        seconds=crash.seconds,
        kind=crash.kind,
        headline=crash.headline,
        at=plain_time(at) if at is not None else None,
        reason=crash.reason,
        symbol=crash.symbol or (trace[0].symbol if trace else ""),
        module=outside,
        program=crash.program,
        version=crash.version,
        taint=crash.taint,
        marks=(*kernel_text.taint_says(crash.taint), *_hardware(crash)),
        says=known.says if known else "",
        phase=known.phase if known else "",
        trace=tuple(f"{call.symbol}{f' [{call.module}]' if call.module else ''}" for call in trace),
        suspects=known.suspects if known else ("driver", "memory"),
    )


# Binary journals of systemd read to starts, events and crashes. Most entries tell nothing, so the
# file is searched for marks, and only what holds one is looked at; a file that cannot be searched
# is walked entry by entry.


_MOST_EVENTS, _CRASH_LINES = 200_000, 200
_JOURNALS_FOLLOWING = 4000
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
        crashes=tuple(crashes_of_kernel(name, reading.said, codes)),
        first=reading.first,
        last=reading.last,
        last_words=reading.words_of(reading.at_end) if reading.at_end else "",
        notes=tuple(notes),
    )


def _read(reading: "_Reading", size: int, header: JournalHeader) -> "_Reading":
    """Search, else walk."""
    longest = max(map(len, reading.marks))
    table = journal.search(reading.journal, size, reading.find, longest)
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


def _take_found(reading: "_Reading", table: journal.EntryTable) -> None:
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
        for number in range(max(first, following), min(first + _JOURNALS_FOLLOWING, len(base))):
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
        marks = [*kernel_text.BEGINNINGS, *(mark.strip() for mark in typist.marks)]
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
            self._left = _CRASH_LINES if kernel_text.begins(told.text) else self._left
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
