"""The record of starts, stops and sign-ins that Linux systems keep: rows of one length.

Source: utmp(5), and `bits/utmp.h` of the GNU C library for 64-bit PCs (`struct utmp`, 384 bytes).
"""

import struct
from collections.abc import Iterator
from typing import BinaryIO

from mending.model import LogRecord, clean_text

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
