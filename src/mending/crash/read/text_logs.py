"""Text logs of any length: crashes of kernels and typed events, read in pieces and only near what
tells something.
"""

import re
from collections.abc import Iterator
from itertools import islice
from typing import BinaryIO

import msgspec

from mending.crash.lookup import look_up
from mending.crash.read.events import EventClassifier, LogEvent
from mending.crash.read.scanner import NearbyLine, Scanner
from mending.crash.read.years import Years
from mending.crash.results import CrashResult
from mending.formats.evidence import kernel_log, log_line, machine_check, panic_text
from mending.formats.evidence.kernel_log import KernelCrash
from mending.formats.evidence.log_line import Line
from mending.knowledge import Codes
from mending.model import LogRecord, plain_time
from mending.source import Source

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
    scanner = Scanner(kernel_log.BEGINNINGS, typist.marks)
    seen: list[_Seen] = []
    reread = (
        (lambda start, end: source.read(start, end - start).data) if source is not None else None
    )
    crashes = []
    for crash in kernel_log.read_crashes(
        _crash_lines(scanner.near_lines(stream, reread), seen, typist)
    ):
        crashes.append(crash)
        if len(crashes) >= _MOST:
            break
    years = Years([entry.line.short for entry in seen if entry.line.short], modified)
    events, times = [], {}
    for entry in seen:
        record = log_line.with_year(entry.line, years.next(entry.line.short))
        times[record.line] = record.at
        before = (
            log_line.with_year(entry.before, years.year) if entry.before is not None else _NOTHING
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
            line = log_line.read_line(near.line, near.number)
            dated = line.short or line.record.at is not None
            edge = bool(not near.marked and dated)
            if edge or (near.marked and dated and (near.begins or typist.tells(line.record))):
                seen.append(
                    _Seen(line, log_line.read_line(near.before, 0) if near.before else None, edge)
                )
        if near.begins:
            yield near.number, near.line


def darwin_crash(name: str, data: bytes, codes: Codes) -> CrashResult | None:
    """The panic of a Darwin report; None where there is none in it."""
    report = panic_text.read(data)
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
        for crash in islice(kernel_log.read_crashes(lines), _MOST)
    )


def _hardware(crash: KernelCrash) -> Iterator[str]:
    """What a record of the hardware says, the states of banks in words."""
    for text in crash.hardware:
        state = _BANK.match(text)
        words = machine_check.state_says(int(state.group(2), 16)) if state else ""
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
        marks=(*kernel_log.taint_says(crash.taint), *_hardware(crash)),
        says=known.says if known else "",
        phase=known.phase if known else "",
        trace=tuple(f"{call.symbol}{f' [{call.module}]' if call.module else ''}" for call in trace),
        suspects=known.suspects if known else ("driver", "memory"),
    )
