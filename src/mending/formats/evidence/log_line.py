"""One line of a text log: who wrote it, when, and the words. The usual forms are told apart by how
the line begins.

Sources: RFC 5424 6 (version, time, host, program, structured data); RFC 3164 4.1 (month, day, time,
host, tag); Linux `kernel/printk/printk.c` (seconds since the start in brackets); `dpkg(1)`, its log
(time, action, package, versions); `pacman(8)`, `zypper(8)`: their logs (time in brackets; columns
between bars).
"""

import re

import msgspec

from mending.model import LogRecord, clean_text, read_short, read_time

LONGEST_LINE = 8192
_PRIORITY = re.compile(r"^<\d{1,3}>")
_RFC5424 = re.compile(r"^1 (\S+) (\S+) (\S+) (\S+) (\S+) (-|(?:\[(?:[^\]\\]|\\.)*\])+) ?(.*)$")
_SHORT = re.compile(
    r"^([A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) (?:(\S+) )?([^\s:\[]{1,64})(?:\[\d+\])?:(?: |$)(.*)$"
)
_ISO = re.compile(
    r"^(\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d\S*)\s+(?:(\S+) ([^\s:\[]{1,64})(?:\[\d+\])?:(?:"
    r" |$))?(.*)$"
)
_BRACKETS = re.compile(r"^\[(\d{4}-\d\d-\d\d[T ]\d\d:\d\d)((?::\d\d)?\S*?)\] (.*)$")
_BARS = re.compile(r"^(\d{4}-\d\d-\d\d \d\d:\d\d:\d\d)(\|.*)$")
_KERNEL = re.compile(r"^\[ *(\d+\.\d+)\](?:\[ *[TC]\d+\])? ?(.*)$")


class Line(msgspec.Struct, frozen=True):
    """A line taken apart. `seconds` since the kernel began, and `short` for a time without its
    year.
    """

    record: LogRecord
    seconds: float | None
    short: str


def read_line(raw: bytes, number: int) -> Line:
    """What a line says. Any bytes give a line; `record.at` is None where the time is missing or
    lacks its year.
    """
    text = clean_text(
        raw[:LONGEST_LINE].rstrip(b"\r\n").decode("utf-8", errors="replace"), LONGEST_LINE
    )
    text = _PRIORITY.sub("", text, count=1)
    if match := _RFC5424.match(text):
        time, _, program, _, _, _, words = match.groups()
        return _line(time, program, words.removeprefix("\ufeff"), number)
    if match := _SHORT.match(text):
        seconds, words = _since_start(match.group(4))
        return Line(
            LogRecord(at=None, by=match.group(3), text=words, line=number, clock=seconds),
            seconds,
            match.group(1),
        )
    if match := _BRACKETS.match(text):
        rest = match.group(2) if match.group(2)[:1] == ":" else f":00{match.group(2)}"
        return _line(f"{match.group(1)}{rest}", "", match.group(3), number)
    if match := _BARS.match(text):
        return _line(match.group(1), "", match.group(2), number)
    if match := _ISO.match(text):
        return _line(match.group(1), match.group(3) or "", match.group(4), number)
    seconds, words = _since_start(text)
    return Line(
        LogRecord(at=None, by="kernel" if seconds is not None else "", text=words, line=number),
        seconds,
        "",
    )


def with_year(line: Line, year: int) -> LogRecord:
    """The record of a line whose time lacks its year."""
    at = read_short(line.short, year) if line.short else line.record.at
    zoned = line.record.zoned and not line.short
    return msgspec.structs.replace(line.record, at=at, zoned=zoned)


def _line(time: str, by: str, words: str, number: int) -> Line:
    read = read_time(time)
    at, zoned = read or (None, False)
    seconds, plain = _since_start(words)
    record = LogRecord(at=at, by=by, text=plain, line=number, zoned=zoned, clock=seconds)
    return Line(record, seconds, "")


def _since_start(words: str) -> tuple[float | None, str]:
    match = _KERNEL.match(words)
    return (float(match.group(1)), match.group(2)) if match else (None, words)
