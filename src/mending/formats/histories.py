"""The record of starts, stops and sign-ins that Linux systems keep: rows of one length.

Source: utmp(5), and `bits/utmp.h` of the GNU C library for 64-bit PCs (`struct utmp`, 384 bytes).
"""

import re
import struct
from collections.abc import Iterator
from typing import BinaryIO
from xml.etree import ElementTree

import msgspec

from mending.model import LogRecord, RestorePoint, clean_text, read_time

ROW_BYTES = 384
_ROW = struct.Struct("<h2xi32s4s32s256s4xiii16s20x")
_RUN_LEVEL, _BOOT, _USER, _LAST_TYPE = 1, 2, 7, 9
_EARLIEST, _LATEST = 1_000_000_000, 4_000_000_000
STARTED, STOPPED, SIGNED_IN = "started", "stopped", "signed in"
"""What a row tells, as the text of its record."""
AUTHOR = "wtmp"


def is_wtmp(head: bytes) -> bool:
    """Whether a file begins with rows that make sense, a start or a sign-in among them."""
    rows = [head[at : at + ROW_BYTES] for at in range(0, len(head), ROW_BYTES)]
    whole = [_ROW.unpack(row) for row in rows if len(row) == ROW_BYTES][:16]
    if not whole:
        return False
    sound = all(0 <= row[0] <= _LAST_TYPE and _in_time(row) and _plain(row[4]) for row in whole)
    return sound and any(row[0] in {_RUN_LEVEL, _BOOT, _USER} for row in whole)


def read_wtmp(stream: BinaryIO) -> Iterator[LogRecord]:
    """The rows that tell of starts, stops and sign-ins, in order; torn and odd ones are passed
    over.
    """
    number = 0
    while len(data := stream.read(ROW_BYTES)) == ROW_BYTES:
        number += 1
        row = _ROW.unpack(data)
        kind, user = row[0], row[4].split(b"\0")[0].decode("utf-8", "replace")
        text = ""
        if kind == _BOOT:
            text = STARTED
        elif kind == _RUN_LEVEL and user == "shutdown":
            text = STOPPED
        elif kind == _USER:
            text = SIGNED_IN
        if text and _in_time(row):
            at = row[7] + row[8] / 1e6
            data_of = {"user": clean_text(user, 40)}
            yield LogRecord(at=at, by=AUTHOR, text=text, data=data_of, line=number)


def _in_time(row: tuple[int, ...]) -> bool:
    return _EARLIEST <= row[7] <= _LATEST and 0 <= row[8] < 1_000_000


def _plain(name: bytes) -> bool:
    """Whether a name is text that ends in zeros."""
    words, _, rest = name.partition(b"\0")
    return not rest.strip(b"\0") and all(32 <= sign < 127 for sign in words)


# What a Linux system writes down with each snapshot that it keeps to go back to:
# `.snapshots/N/info.xml`.
#
# Source: the manual pages of the open tools that keep such snapshots: a `snapshot` element with
# `num`, `date` (UTC) and `description`.


_LARGEST = 64 * 1024


def read_snapshot_info(data: bytes) -> RestorePoint | None:
    """The snapshot that a file describes; None for any other file. Entities of its own are
    refused.
    """
    if (
        b"<snapshot" not in data[:512]
        or len(data) > _LARGEST
        or b"<!" in data.replace(b"<!--", b"")
    ):
        return None
    try:
        top = ElementTree.fromstring(data)
    except ElementTree.ParseError:
        return None
    read = read_time(top.findtext("date") or "")
    number = top.findtext("num") or ""
    if top.tag != "snapshot" or read is None or not number.strip():
        return None
    return RestorePoint(
        clean_text(number.strip(), 40), read[0], clean_text(top.findtext("description") or "", 200)
    )


# The log that an automatic repair of the nt family leaves behind: what it tested, what it found,
# what it tried.
#
# It is known by its form, not by its words: sections under a line of dashes, with pairs of a name
# and a value, in which a result stands with an error code. Source: such logs; their form is not
# written down anywhere.


_PAIR = re.compile(r"^\s*([A-Za-z][\w ()/.-]{0,60}?)\s*[:=]\s*(.*)$")
_DASHES = re.compile(r"^\s*-{8,}\s*$")
_CODE = re.compile(r"0x([0-9a-f]{1,8})\b", re.I)
_MILLISECONDS = re.compile(r"(\d+)\s*ms\b")
_MOST, _LINES = 200, 20_000


class RepairLine(msgspec.Struct, frozen=True):
    """Something that was tested or tried: its name, how it ended in the log's words, error code,
    milliseconds.
    """

    name: str
    result: str
    code: int | None
    milliseconds: int | None
    line: int

    @property
    def good(self) -> bool:
        """Whether it ended without an error."""
        return self.code == 0


class RepairLog(msgspec.Struct, frozen=True):
    """A whole log. `found` are the causes that it named, in its own words."""

    tested: tuple[RepairLine, ...]
    found: tuple[str, ...]
    tried: tuple[RepairLine, ...]


def read_repair_log(text: str) -> RepairLog | None:
    """The log in a text; None where it has not the form of one."""
    tested: list[RepairLine] = []
    tried: list[RepairLine] = []
    found: list[str] = []
    heading, previous = "", ""
    pairs: dict[str, tuple[str, int]] = {}
    for number, line in enumerate([*text.splitlines()[:_LINES], ""], 1):
        plain = clean_text(line, 300).strip()
        if _DASHES.match(plain):
            heading = previous
            continue
        match = _PAIR.match(plain)
        if match and not ("cause" in heading.casefold() and not _is_known(match.group(1))):
            pairs[match.group(1).casefold()] = (match.group(2), number)
        elif (
            plain
            and "cause" in heading.casefold()
            and not plain.endswith(":")
            and len(found) < _MOST
        ):
            found.append(plain)
        if not plain:
            _take(pairs, heading, tested, tried)
            pairs = {}
        previous = plain or previous
    if not tested and not tried:
        return None
    return RepairLog(tuple(tested[:_MOST]), tuple(found), tuple(tried[:_MOST]))


def _is_known(name: str) -> bool:
    return (
        name.casefold() in {"name", "result"}
        or "action" in name.casefold()
        or "time" in name.casefold()
    )


def _take(
    pairs: dict[str, tuple[str, int]],
    heading: str,
    tested: list[RepairLine],
    tried: list[RepairLine],
) -> None:
    """A section counts when it has a result with an error code; one with an action was a try, else
    it was a test.
    """
    result = next((value for name, value in pairs.items() if "result" in name), None)
    if result is None or not (code := _CODE.search(result[0])):
        return
    action = next((value for name, value in pairs.items() if "action" in name), None)
    name = action or next(
        (value for key, value in pairs.items() if key.endswith("name")), (heading, result[1])
    )
    took = next(
        (match for value, _ in pairs.values() if (match := _MILLISECONDS.search(value))), None
    )
    words = result[0].split(". ")[0]
    row = RepairLine(
        name[0], words, int(code.group(1), 16), int(took.group(1)) if took else None, name[1]
    )
    (tried if action else tested).append(row)


# Logs that the nt family keeps of set-up of devices and drivers: dated sections, one for each
# thing that was set up, with the files that it brought and how it ended.
#
#     >>>  [Device Install (Hardware initiated) - USB\VID_1209&PID_0A11\5&1]
#     >>>  Section start 2026/10/02 09:12:33.123
#          flq: Copying '...' to '...\quaynet.sys'.
#     <<<  Section end 2026/10/02 09:12:36.456
#     <<<  [Exit status: SUCCESS]
#
# Times are local and carry no zone. Source: published documentation of the text logs of device
# set-up ("format of a text log section").


_TITLE = re.compile(r">>>\s+\[(?P<what>[^-\]]+?)\s*(?:-\s*(?P<name>.*))?\]\s*$")
_START = re.compile(r">>>\s+Section start (\d{4})/(\d\d)/(\d\d) (\d\d:\d\d:\d\d)")
_END = re.compile(r"<<<\s+\[Exit status: (?P<status>\w+)")
_DRIVER = re.compile(r"([\w.+-]+)\.sys\b", re.IGNORECASE)
_TAKEN_OUT = re.compile(r"uninstall|delete|remove", re.IGNORECASE)
_MARK = b"Section start "
_LONGEST_LINE, _SETUP_LOG_MOST, _MOST_DRIVERS = 8192, 100_000, 16


class SetupSection(msgspec.Struct, frozen=True, kw_only=True):
    """One section.

    Attributes:
        at: Unix seconds, its local time taken for UTC.
        what: what was done, in the words of the log; `name`: to what: a device or a package.
        drivers: names of driver files in it, without endings.
        removed: whether something was taken out; `succeeded`: None where it has no end.
    """

    at: float
    line: int
    what: str
    name: str
    drivers: tuple[str, ...]
    removed: bool
    succeeded: bool | None


def is_setup_log(head: bytes) -> bool:
    """Whether a file begins like one."""
    return b">>>" in head and _MARK in head


def read_setup_log(stream: BinaryIO) -> Iterator[SetupSection]:
    """The sections of a log, in its order; those without a time are left out."""
    what, name, at, line = "", "", 0.0, 0
    drivers: dict[str, None] = {}
    count = number = 0
    while (raw := stream.readline(_LONGEST_LINE)) and count < _SETUP_LOG_MOST:
        number += 1
        text = raw.decode("utf-8", errors="replace")
        title, start, end = _TITLE.search(text), _START.search(text), _END.search(text)
        if title:
            if at:
                yield _section(at, line, what, name, drivers, None)
                count += 1
            what, name = title.group("what"), title.group("name") or ""
            at, line, drivers = 0.0, number, {}
        elif start:
            year, month, day, clock = start.groups()
            read = read_time(f"{year}-{month}-{day}T{clock}Z")
            at = read[0] if read is not None else 0.0
        elif end and at:
            yield _section(at, line, what, name, drivers, end.group("status") == "SUCCESS")
            count, at = count + 1, 0.0
        elif at and len(drivers) < _MOST_DRIVERS:
            drivers |= dict.fromkeys(found.casefold() for found in _DRIVER.findall(text))
    if at:
        yield _section(at, line, what, name, drivers, None)


def _section(
    at: float, line: int, what: str, name: str, drivers: dict[str, None], succeeded: bool | None
) -> SetupSection:
    return SetupSection(
        at=at,
        line=line,
        what=clean_text(what, 80),
        name=clean_text(name, 200),
        drivers=tuple(clean_text(driver, 60) for driver in drivers)[:_MOST_DRIVERS],
        removed=bool(_TAKEN_OUT.search(what)),
        succeeded=succeeded,
    )
