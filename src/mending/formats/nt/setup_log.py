"""Logs that the nt family keeps of set-up of devices and drivers: dated sections, one for each
thing that was set up, with the files that it brought and how it ended.

    >>>  [Device Install (Hardware initiated) - USB\\VID_1209&PID_0A11\\5&1]
    >>>  Section start 2026/10/02 09:12:33.123
         flq: Copying '...' to '...\\quaynet.sys'.
    <<<  Section end 2026/10/02 09:12:36.456
    <<<  [Exit status: SUCCESS]

Times are local and carry no zone. Source: published documentation of the text logs of device
set-up ("format of a text log section").
"""

import re
from collections.abc import Iterator
from typing import BinaryIO

import msgspec

from mending.model import clean_text, read_time

_TITLE = re.compile(r">>>\s+\[(?P<what>[^-\]]+?)\s*(?:-\s*(?P<name>.*))?\]\s*$")
_START = re.compile(r">>>\s+Section start (\d{4})/(\d\d)/(\d\d) (\d\d:\d\d:\d\d)")
_END = re.compile(r"<<<\s+\[Exit status: (?P<status>\w+)")
_DRIVER = re.compile(r"([\w.+-]+)\.sys\b", re.IGNORECASE)
_TAKEN_OUT = re.compile(r"uninstall|delete|remove", re.IGNORECASE)
_MARK = b"Section start "
_LONGEST_LINE, _MOST, _MOST_DRIVERS = 8192, 100_000, 16


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
    while (raw := stream.readline(_LONGEST_LINE)) and count < _MOST:
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
