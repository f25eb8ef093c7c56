"""One file of evidence, whatever it is: known by its content, read to crashes, events, restore
points and repairs.
"""

import io
import re
from collections.abc import Iterable, Iterator
from typing import BinaryIO, cast

import msgspec

from mending.crash.read import text_logs
from mending.crash.read.clocks import CLOCK_JUMP, clock_set, straightened
from mending.crash.read.dump_files import crash_of_dump, dumps_in
from mending.crash.read.events import EventClassifier, FileRead, LogEvent, held_whole, read_wtmp
from mending.crash.read.text_logs import read_journal
from mending.crash.results import CrashResult, RepairAttempt
from mending.disk.hives import Hive, Key, control_set, current_versions
from mending.formats import dumps, event_log, firmware, histories, journal, kernel_text, packages
from mending.formats.hives import DamagedHiveError
from mending.knowledge import Codes, EventKind, EventTable
from mending.model import (
    InputError,
    LogRecord,
    Window,
    clean_text,
    decode_text,
    plain_time,
    read_time,
)
from mending.model.data import unix_seconds
from mending.model.limits import HIVE_BYTES
from mending.source import MemorySource, Source, unpacked

# What hives and set-up logs of the nt family tell of the past: devices, drivers, updates and
# programs that came, and the last shutdown. A date that they do not hold is not made up.
#
# Sources: published documentation of device properties (when a device was first installed, when its
# driver was), of installed packages and of uninstallers.


MAGIC, BY_HIVE = b"regf", "hive"
_TIMES = "{83da6326-97a6-4088-9453-a1923f573b29}"
_INSTALLED = {"0064": "driver", "0065": "device"}
"""When the driver of a device was installed last, and when the device came first."""
_PRESENT = 0x70
_NOON = 43_200.0
_MOST = 50_000


def read_hive(name: str, data: bytes) -> FileRead:
    """The past as a hive has it."""
    events, notes = list[LogEvent](), list[str]()
    for part in (_shutdown, _devices, _updates, _programs):
        try:
            for event in part(Hive(data).root):
                events.append(event)
                if len(events) >= _MOST:
                    break
        except (DamagedHiveError, InputError) as error:
            notes.append(f"{name} is damaged: {error.says}")
    told = [_named(event, name) for event in events]
    return FileRead(name=name, kind="hive", events=tuple(told), notes=tuple(dict.fromkeys(notes)))


def read_setup(name: str, stream: BinaryIO) -> FileRead:
    """The past as a log of set-up has it."""
    events = []
    for section in histories.read_setup_log(stream):
        if section.succeeded is None or not (section.drivers or section.name):
            continue
        kind = EventKind.REMOVED if section.removed else EventKind.INSTALLED
        names = " ".join(section.drivers)
        thing = section.name.replace("/", "\\").rpartition("\\")[2] if names else section.name
        events.append(
            LogEvent(
                at=section.at,
                kind=kind if section.succeeded else EventKind.FAILED,
                what="driver",
                name=clean_text(f"{names} ({thing})" if names else thing, 120),
                says=clean_text(f"{section.what}: {section.name}", 200),
                file=name,
                line=section.line,
                by="set-up log",
            )
        )
    return FileRead(name=name, kind="set-up log", events=tuple(events), zoned=False)


def _named(event: LogEvent, file: str) -> LogEvent:
    return LogEvent(
        at=event.at,
        kind=event.kind,
        what=event.what,
        name=event.name,
        says=event.says,
        file=file,
        by=BY_HIVE,
        placed=event.placed,
    )


def _shutdown(root: Key) -> Iterator[LogEvent]:
    """Of the keys of the control, one keeps it."""
    chosen = control_set(root)
    control = chosen.child("Control") if chosen is not None else None
    for key in control.children() if control is not None else ():
        at = _time(key.data("ShutdownTime"))
        if at is not None:
            yield LogEvent(at=at, kind=EventKind.CLEAN_STOP, says="last shutdown of the system")


def _devices(root: Key) -> Iterator[LogEvent]:
    chosen = control_set(root)
    buses = chosen.child("Enum") if chosen is not None else None
    for bus in buses.children() if buses is not None else ():
        for device in bus.children():
            for instance in device.children():
                times = instance.path("Properties", _TIMES)
                if times is not None:
                    yield from _of_device(f"{bus.name}\\{device.name}", instance, times)


def _of_device(path: str, instance: Key, times: Key) -> Iterator[LogEvent]:
    called = instance.text("FriendlyName") or instance.text("DeviceDesc") or path
    driver = instance.text("Service") or ""
    shown = clean_text(called.rpartition(";")[2], 80)
    seen = set[float]()
    for number, what in _INSTALLED.items():
        key = times.child(number) or times.child(f"0000{number}")
        at = _time(key.data("") if key is not None else None)
        if at is None or at in seen:
            continue
        seen.add(at)
        yield LogEvent(
            at=at,
            kind=EventKind.INSTALLED,
            what="driver",
            name=clean_text(f"{driver} ({shown})" if driver else shown, 120),
            says=clean_text(f"{what} {path} installed", 200),
        )


def _updates(root: Key) -> Iterator[LogEvent]:
    for current in current_versions(root):
        packages = current.path("Component Based Servicing", "Packages")
        for key in packages.children() if packages is not None else ():
            high, low = key.number("InstallTimeHigh"), key.number("InstallTimeLow")
            if high is None or low is None or key.number("CurrentState") != _PRESENT:
                continue
            at = _time((high << 32 | low).to_bytes(12, "little")[:8])
            if at is not None:
                name = clean_text(key.name.partition("~")[0], 120)
                yield LogEvent(
                    at=at,
                    kind=EventKind.INSTALLED,
                    what="update",
                    name=name,
                    says=f"{name} installed",
                )


def _programs(root: Key) -> Iterator[LogEvent]:
    """Programs keep the day alone: noon of it stands for it."""
    for current in current_versions(root):
        listed = current.child("Uninstall")
        for key in listed.children() if listed is not None else ():
            called, day = key.text("DisplayName"), key.text("InstallDate") or ""
            if not called or len(day) != 8 or not day.isascii() or not day.isdigit():
                continue
            read = read_time(f"{day[:4]}-{day[4:6]}-{day[6:]}T00:00:00Z")
            if read is not None:
                name = clean_text(called, 120)
                yield LogEvent(
                    at=read[0] + _NOON,
                    kind=EventKind.INSTALLED,
                    what="program",
                    name=name,
                    says=f"{name} installed on this day",
                    placed=True,
                )


def _time(data: bytes | None) -> float | None:
    """Unix seconds of a time in units of 100 ns since 1601; None for none, or one before 1990."""
    if data is None or len(data) < 8:
        return None
    at = unix_seconds(int.from_bytes(data[:8], "little"))
    return at if 631_152_000 < at < 32_503_680_000 else None


_HEAD = 8192
_SMALL = 4 * 1024 * 1024
"""Largest file that is taken for one report; kernels' reports and repair logs have some ten KiB."""
_MOST_EVENTS = 200_000
_CRASH_LINES, _STORE_HEAD = 200, 100
_CORE = (
    "{}: the memory of a kernel that crashed; not searched. Its log, kept beside it, tells more."
)
_JSON = re.compile(rb"\s*(?:\{|\[\s*[\[{\]])")
"""How a JSON table begins; lines of kernels begin with a bracket, too, and a time in it."""
_STREAMED = (
    (journal.is_export, journal.read_export),
    (journal.is_json, journal.read_json),
    (event_log.is_xml, event_log.read_xml),
    (packages.is_history, packages.read_history),
)


class Reader:
    """Reads files of evidence.

    Args:
        codes, table: what codes, messages and entries mean.
    """

    def __init__(self, codes: Codes, table: EventTable) -> None:
        self._codes, self._typist = codes, EventClassifier(table)

    def read(self, name: str, source: Source, modified: float) -> list[FileRead]:
        """What a file tells; of an archive, each file in it. Damage is said in the notes.

        Args:
            modified: Unix seconds at which the file was written last: times without a year are not
                after it.

        Raises:
            ReadError: the file itself cannot be read.
            UsageError: an extra is missing.
        """
        try:
            return [
                straightened(self._whole(inner, stream, source, modified))
                for inner, stream in unpacked(source, name)
            ]
        except InputError as error:
            return [_damaged(name, error)]

    def _whole(self, name: str, stream: BinaryIO, source: Source, modified: float) -> FileRead:
        """One file; its damage leaves the others of an archive as they are."""
        try:
            return self._one(name, stream, source, modified)
        except InputError as error:
            return _damaged(name, error)

    def _one(self, name: str, stream: BinaryIO, source: Source, modified: float) -> FileRead:
        head = cast(io.BufferedReader, stream).peek(_HEAD)[:_HEAD]
        whole = stream.seekable()  # what comes out of a packed file is not
        if dumps.is_dump(head):
            held = source if whole else MemorySource(held_whole(stream, name))
            return FileRead(
                name=name, kind="dump", crashes=(crash_of_dump(name, held, self._codes),)
            )
        if firmware.is_store(head[:_STORE_HEAD]):
            return self._firmware(name, held_whole(stream, name), modified)
        if head.startswith(MAGIC):
            return read_hive(name, held_whole(stream, name, HIVE_BYTES))
        if histories.is_setup_log(head):
            return read_setup(name, stream)
        if dumps.is_core(head):
            return FileRead(name=name, kind="memory", notes=(_CORE.format(name),))
        if journal.is_journal(head):
            held = source if whole else MemorySource(held_whole(stream, name))
            return read_journal(name, held, self._typist, self._codes)
        if histories.is_wtmp(head[: len(head) // histories.ROW_BYTES * histories.ROW_BYTES]):
            return read_wtmp(name, stream)
        if event_log.is_older_log(head):
            rows_found = event_log.read_older_log(held_whole(stream, name))
            return _of_records(name, "event log", rows_found, self._typist)
        if event_log.is_log(head):
            seekable = stream if whole else io.BytesIO(held_whole(stream, name))
            rows = (
                event_log.from_json(value, number)
                for number, value in enumerate(event_log.events(seekable), 1)
            )
            return _of_records(name, "event log", rows, self._typist)
        for is_kind, records in _STREAMED:
            if is_kind(decode_text(head).encode()):
                said = list[LogRecord]()
                read = _of_records(
                    name, "exported events", _overheard(records(stream), said), self._typist
                )
                crashes = tuple(text_logs.crashes_of_kernel(name, said, self._codes))
                return msgspec.structs.replace(read, crashes=crashes)
        return self._text(name, stream, head, source if whole else None, modified)

    def _firmware(self, name: str, data: bytes, modified: float) -> FileRead:
        """Last words of kernels in what firmware remembers."""
        crashes: list[CrashResult] = []
        variables = firmware.read_store(Window(data)).record
        for at, text in dumps_in(variables):
            held = MemorySource(text)
            read = self._text(name, io.BytesIO(text), text[:_HEAD], held, modified)
            crashes += [
                crash if crash.at else msgspec.structs.replace(crash, at=plain_time(at))
                for crash in read.crashes
            ]
        return FileRead(name=name, kind="firmware", crashes=tuple(crashes))

    def _text(
        self, name: str, stream: BinaryIO, head: bytes, source: Source | None, modified: float
    ) -> FileRead:
        """A table, a report, or a log. Short files are looked at as a whole first."""
        plain = decode_text(head).encode()
        is_table = _JSON.match(plain) is not None or _names_columns(plain)
        short = len(head) < _HEAD or (source is not None and source.size <= _SMALL)
        if is_table or short:
            data = held_whole(stream, name)
            found = (_as_table(name, data, self._typist) if is_table else None) or _as_report(
                name, data, self._codes
            )
            if found is not None:
                return found
            data = decode_text(data).encode() if data[:2] in {b"\xff\xfe", b"\xfe\xff"} else data
            stream, source = io.BytesIO(data), MemorySource(data)
        read = text_logs.read_log(name, stream, source, self._typist, self._codes, modified)
        return FileRead(
            name=name,
            kind="log",
            crashes=read.crashes,
            events=read.events,
            first=read.first,
            last=read.last,
            zoned=read.zoned,
            yearless=read.yearless,
            notes=read.notes,
        )


def _damaged(name: str, error: InputError) -> FileRead:
    return FileRead(name=name, kind="damaged", notes=(str(error),))


def _as_table(name: str, data: bytes, typist: EventClassifier) -> FileRead | None:
    rows = event_log.rows_of(data)
    points = event_log.restore_points(rows)
    if points:
        return FileRead(name=name, kind="restore points", points=tuple(points))
    records = sorted(event_log.records(rows), key=lambda record: record.at or 0.0)
    return _of_records(name, "table of events", records, typist) if records else None


def _as_report(name: str, data: bytes, codes: Codes) -> FileRead | None:
    if point := histories.read_snapshot_info(data):
        return FileRead(name=name, kind="restore points", points=(point,))
    if kernel_text.PANIC_MARK in data and (crash := text_logs.darwin_crash(name, data, codes)):
        return FileRead(name=name, kind="panic report", crashes=(crash,))
    report = histories.read_repair_log(decode_text(data))
    return (
        None
        if report is None
        else FileRead(name=name, kind="repair log", repairs=(_attempt(name, report),))
    )


def _attempt(name: str, report: histories.RepairLog) -> RepairAttempt:
    bad = tuple(
        f"{line.name}: {line.result} ({line.code:#x})" for line in report.tested if not line.good
    )
    tried = tuple(f"{line.name}: {line.result} ({line.code or 0:#x})" for line in report.tried)
    good = any(line.good for line in report.tried)
    says = f"The PC's own automatic repair tested {len(report.tested)} things"
    if not report.found and not bad:
        says += " and found nothing wrong."
    elif not report.tried:
        says += ", found something and tried nothing."
    else:
        says += (
            f", tried {len(report.tried)}, and"
            f" {'one or more of them ended well' if good else 'none of them worked'}."
        )
    return RepairAttempt(
        file=name,
        tested=len(report.tested),
        complained=bad,
        found=report.found,
        tried=tried,
        says=says,
    )


def _of_records(
    name: str, kind: str, records: Iterable[LogRecord], typist: EventClassifier
) -> FileRead:
    """Typed events of entries that come one by one; a start is also told by entries that name a new
    one.
    """
    events: list[LogEvent] = []
    notes: list[str] = []
    first = last = base = None
    zoned, start, said = True, "", ""
    for record in _until_damage(records, notes):
        if record.at is None:
            continue
        first = record.at if first is None else first
        zoned = zoned and record.zoned
        event = typist.event(record, name, last, said)
        if record.start and record.start != start:
            events.append(_new_start(record, record.at, name, last, said))
            start = record.start
            base = None
        if record.clock is not None:
            if base is not None and abs(record.at - record.clock - base) > CLOCK_JUMP:
                events.append(clock_set(name, record.line, record.at, record.clock))
            base = record.at - record.clock
        if event is not None and not (record.start and event.kind is EventKind.START):
            events.append(event)
        last = record.at
        said = f"{record.by}: {record.text}" if record.by else record.text
        if len(events) >= _MOST_EVENTS:
            notes.append(f"{name}: only the first {_MOST_EVENTS} events count.")
            break
    return FileRead(
        name=name,
        kind=kind,
        events=tuple(events),
        first=first,
        last=last,
        last_words=clean_text(said, 200),
        zoned=zoned,
        notes=tuple(notes),
    )


def _new_start(
    record: LogRecord, at: float, name: str, previous: float | None, said: str
) -> LogEvent:
    return LogEvent(
        at=at,
        kind=EventKind.START,
        name=record.start,
        file=name,
        line=record.line,
        by="journal",
        previous=previous,
        words_before=clean_text(said, 200),
        clock=record.clock,
        says=f"the journal calls this start {record.start[:8]}",
    )


def _overheard(records: Iterable[LogRecord], said: list[LogRecord]) -> Iterator[LogRecord]:
    """The same records; what kernels say from the beginning of a crash on is kept on the way."""
    left = 0
    for record in records:
        if record.by == "kernel" and len(said) < _MOST_EVENTS:
            left = _CRASH_LINES if kernel_text.begins(record.text) else left
            if left:
                said.append(record)
                left -= 1
        yield record


def _until_damage(records: Iterable[LogRecord], notes: list[str]) -> Iterator[LogRecord]:
    try:
        yield from records
    except InputError as error:
        notes.append(str(error))


def _names_columns(plain: bytes) -> bool:
    """Whether the first line looks like names of columns: several words between separators, a time
    among them.
    """
    line = plain.split(b"\n", 1)[0].lower()
    return max(line.count(sign) for sign in (b",", b";", b"\t")) >= 2 and any(
        word in line for word in (b"time", b"date")
    )
