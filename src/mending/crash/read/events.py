"""Entries of any log reduced to one stream of typed events."""

import re
from collections.abc import Mapping
from typing import BinaryIO

import msgspec

from mending.crash.results import CrashResult, RepairAttempt
from mending.formats import histories, kernel_text
from mending.knowledge import EventKind, EventTable, NumberedRow, WordsRow
from mending.model import InputError, LogRecord, RestorePoint, clean_text
from mending.model.limits import TABLE_FILE_BYTES

_HEX = re.compile(r"0x([0-9a-fA-F]{1,16})")
_LOOKING_BACK = {EventKind.START, EventKind.POWER_KEY}
_UNSET = {"", "0", "0x0", "false"}
_FILE = re.compile(r"[^\\/ ]+\.\w{3}$")


class LogEvent(msgspec.Struct, frozen=True, kw_only=True):
    """Something that happened.

    Attributes:
        at: Unix seconds; of an event with `earlier`, when it was written down, which is after it
            happened.
        what: of a change or failure, of what: `update`, `driver`, `program`, `device`, `service`.
        name: of the thing; `code`: of a crash, the stop code as a number, None where it is not
            told.
        previous: of a start, the time of the entry before it: the last sign of life of the run
            before; of a pressed power key, too. `words_before`: what that entry says.
        by_hand: of an end, whether the entry says that somebody held the power key down.
        by: who wrote it, and the number of the entry; two authors may tell of the same start.
        earlier: whether it speaks of the run before the one in which it is written.
        also: where else it is written.
        clock: seconds since its start, by the kernel's own clock, where it is written.
        stamp: what was written for `at` where a clock that lied was put right; `placed`: its true
            time is not known, it was put between its neighbours.
        built: of a start, when its kernel was built, in Unix seconds, where that is written.
    """

    at: float
    kind: EventKind
    what: str = ""
    name: str = ""
    code: int | None = None
    says: str = ""
    file: str = ""
    line: int = 0
    by: str = ""
    previous: float | None = None
    words_before: str = ""
    by_hand: bool = False
    earlier: bool = False
    also: tuple[str, ...] = ()
    clock: float | None = None
    built: float | None = None
    stamp: float | None = None
    placed: bool = False


class EventClassifier:
    """Says what an entry means, by the table of events."""

    def __init__(self, table: EventTable) -> None:
        self._table = table
        self._words = [(row, row.expression) for row in table.words]
        self.marks = tuple(row.mark.encode() for row in table.words)

    def event(
        self, record: LogRecord, file: str, previous: float | None = None, words_before: str = ""
    ) -> LogEvent | None:
        """The event that an entry tells of; None for one that tells of nothing, or has no time.

        Args:
            previous, words_before: time and words of the entry in front of it.
        """
        if record.at is None:
            return None
        if record.number is not None:
            row = self._numbered(record)
            return _numbered(row, record, record.at, file, previous) if row else None
        found = self._wording(record)
        if found is None:
            return _crash(record, record.at, file)
        word, match = found
        name = match.groupdict().get("name") or ""
        return LogEvent(
            at=record.at,
            kind=word.kind,
            what=word.what,
            name=clean_text(name, 120),
            says=clean_text(record.text, 200),
            file=file,
            line=record.line,
            by=record.by,
            previous=previous if word.kind in _LOOKING_BACK else None,
            words_before=(clean_text(words_before, 200) if word.kind is EventKind.START else ""),
            clock=record.clock,
            built=kernel_text.built(record.text) if word.kind is EventKind.START else None,
        )

    def tells(self, record: LogRecord) -> bool:
        """Whether an entry without a number tells of something; its time does not matter."""
        return self._wording(record) is not None or _crash(record, 0.0, "") is not None

    def _numbered(self, record: LogRecord) -> NumberedRow | None:
        rows = (
            *self._table.numbered.get(record.number or 0, ()),
            *self._table.numbered.get(-1, ()),
        )
        by = record.by.casefold()
        return next((row for row in rows if by.endswith(row.by.casefold())), None)

    def _wording(self, record: LogRecord) -> tuple[WordsRow, "re.Match[str]"] | None:
        for row, expression in self._words:
            if row.mark in record.text or row.mark in f" {record.text}" or row.mark in record.by:
                match = expression.search(record.text)
                if match and (not row.by or record.by == row.by or not record.by):
                    return row, match
        return None


def _numbered(
    row: NumberedRow, record: LogRecord, at: float, file: str, previous: float | None
) -> LogEvent:
    codes = [code for name in row.code if (code := _code(record.data.get(name, ""))) is not None]
    code = codes[0] if codes else _code_in(record.text) if row.kind is EventKind.CRASH else None
    kind = EventKind.CRASH if code else row.kind
    return LogEvent(
        at=at,
        kind=kind,
        what=row.what,
        name=_name(row, record.data, record.text),
        code=code or None,
        says=clean_text(record.text, 200),
        file=file,
        line=record.line,
        by=f"{row.by} {record.number}",
        previous=previous if kind is EventKind.START else None,
        by_hand=any(
            record.data.get(name, "").strip().casefold() not in _UNSET for name in row.hand
        ),
        earlier=row.before,
    )


def _is_set(value: str) -> bool:
    return value.strip().casefold() not in _UNSET


def _crash(record: LogRecord, at: float, file: str) -> LogEvent | None:
    """A kernel's last words that came to its log."""
    if record.by not in {"kernel", ""} or not kernel_text.begins(record.text):
        return None
    kind = kernel_text.begins(record.text)
    what = EventKind.HARDWARE_ERROR if kind == "machine-check" else EventKind.CRASH
    if kind in {"out-of-memory", "hung-task"}:  # a program dies or waits, the system goes on
        return None
    return LogEvent(
        at=at,
        kind=what,
        says=clean_text(record.text, 200),
        file=file,
        line=record.line,
        by=record.by,
        clock=record.clock,
    )


def _name(row: NumberedRow, data: Mapping[str, str], text: str) -> str:
    """The thing's name: the first of the values that is there; else the first words of the
    message.
    """
    value = next((data[name] for name in row.name if data.get(name)), "")
    file = _FILE.search(value)
    return (
        clean_text(file.group() if file else value, 120)
        if value or not row.what
        else clean_text(text, 60)
    )


def _code(value: str) -> int | None:
    """A stop code in a named value: hexadecimal with `0x` in front, else decimal; 0 means that
    there was none.
    """
    match = _HEX.search(value)
    if match:
        return int(match.group(1), 16)
    return int(value) if value.isascii() and value.isdigit() and len(value) < 12 else None


def _code_in(text: str) -> int | None:
    match = _HEX.search(text)
    return int(match.group(1), 16) if match else None


# What one file of evidence tells.


class FileRead(msgspec.Struct, frozen=True, kw_only=True):
    """What one file tells.

    Attributes:
        kind: what it was taken for.
        first, last: Unix seconds of its first and its last entry that has a time.
        last_words: what the last entry says, and who says it; empty where that is not at hand.
        zoned: whether its times carry a zone.
        yearless: whether its times carry no year, which was worked out.
        notes: what could not be read, in sentences.
    """

    name: str
    kind: str
    crashes: tuple[CrashResult, ...] = ()
    events: tuple[LogEvent, ...] = ()
    points: tuple[RestorePoint, ...] = ()
    repairs: tuple[RepairAttempt, ...] = ()
    first: float | None = None
    last: float | None = None
    last_words: str = ""
    zoned: bool = True
    yearless: bool = False
    notes: tuple[str, ...] = ()


def held_whole(stream: BinaryIO, name: str, most: int = TABLE_FILE_BYTES) -> bytes:
    """A whole file that is looked at in one piece.

    Raises:
        InputError: one that is too large for that.
    """
    data = stream.read(most + 1)
    if len(data) > most:
        raise InputError(
            f"{name} has more than {most} bytes, which is too much for a file of its kind."
        )
    return data


# Starts, stops and sign-ins out of the record that Linux systems keep of them.


_KINDS = {
    histories.STARTED: EventKind.START,
    histories.STOPPED: EventKind.CLEAN_STOP,
    histories.SIGNED_IN: EventKind.SIGNED_IN,
}
_MOST = 200_000


def read_wtmp(name: str, stream: BinaryIO) -> FileRead:
    """What such a file tells."""
    events: list[LogEvent] = []
    previous: float | None = None
    for row in histories.read_wtmp(stream):
        if row.at is None or len(events) >= _MOST:
            break
        kind = _KINDS[row.text]
        start = kind is EventKind.START
        events.append(
            LogEvent(
                at=row.at,
                kind=kind,
                name=row.data["user"] if kind is EventKind.SIGNED_IN else "",
                says=row.text,
                file=name,
                line=row.line,
                by=row.by,
                previous=previous if start else None,
            )
        )
        previous = row.at
    times = [event.at for event in events]
    return FileRead(
        name=name,
        kind="sign-ins",
        events=tuple(events),
        first=min(times, default=None),
        last=max(times, default=None),
    )
