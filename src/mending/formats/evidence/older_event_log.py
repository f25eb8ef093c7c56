"""The older binary event log of the nt family: records of a ring, each with its length in front and
behind.

The header says where the oldest record is, unless the system was not shut down: then it is stale.
So records are found by their mark, whatever the header says, and put in the order of their numbers.

Source: the maker's open specification of the format ("Event Log File Format", `EVENTLOGRECORD` and
`ELF_LOGFILE_HEADER`); what is read was compared with an independent reader.
"""

import struct
from collections.abc import Iterator

from mending.model import LogRecord, clean_text

MAGIC = b"LfLe"
HEADER_BYTES = 48
_RECORD = struct.Struct("<I4sIIIIHHHHIIIIII")
_LEAST, _MOST = 56, 1 << 20
_MOST_RECORDS, _MOST_STRINGS = 500_000, 64
_TEXT = 2000


def is_older_log(head: bytes) -> bool:
    """Whether a file begins as such a log does."""
    return len(head) >= HEADER_BYTES and head[:8] == struct.pack("<I", HEADER_BYTES) + MAGIC


def read_older_log(data: bytes) -> Iterator[LogRecord]:
    """The records, each once, in the order of their numbers.

    Args:
        data: the whole file.
    """
    found: dict[int, LogRecord] = {}
    for at in _places(data):
        record = _record(data, at)
        if record is not None and record.line not in found and len(found) < _MOST_RECORDS:
            found[record.line] = record
    yield from (found[number] for number in sorted(found))


def _places(data: bytes) -> Iterator[int]:
    """Where records may begin: four bytes in front of each mark behind the header."""
    at = data.find(MAGIC, HEADER_BYTES)
    while at >= 0:
        yield at - 4
        at = data.find(MAGIC, at + 4)


def _record(data: bytes, at: int) -> LogRecord | None:
    """The record at a place; None where its lengths do not agree, or it goes over the end of the
    ring.
    """
    if at < HEADER_BYTES or at + _LEAST > len(data):
        return None
    row = _RECORD.unpack_from(data, at)
    length, number, generated, identity = row[0], row[2], row[3], row[5]
    strings, place = row[7], row[11]
    if not _LEAST <= length <= _MOST or at + length > len(data):
        return None
    if data[at + length - 4 : at + length] != data[at : at + 4]:
        return None
    body = data[at : at + length]
    source, _ = _words(body, _LEAST)
    values: dict[str, str] = {}
    where = place
    for each in range(min(strings, _MOST_STRINGS)):
        if not _LEAST <= where < length:
            break
        text, where = _words(body, where)
        values[f"param{each + 1}"] = clean_text(text, 500)
    return LogRecord(
        at=float(generated),
        by=clean_text(source, 80),
        number=identity & 0xFFFF,
        text=clean_text(" ".join(values.values()), _TEXT),
        data=values,
        line=number,
    )


def _words(body: bytes, at: int) -> tuple[str, int]:
    """A text that ends in a zero of two bytes, and the place behind it."""
    end = at
    while end + 1 < len(body) and body[end : end + 2] != b"\0\0":
        end += 2
    return body[at:end].decode("utf-16-le", "replace"), end + 2
