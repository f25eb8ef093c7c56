"""Journals of systemd, as exported: a line a field with an empty line between entries, or a JSON
object a line.

Source: systemd, "Journal Export Formats" (text and binary fields; JSON: a field is a string, null,
a list of numbers for bytes, or a list of values) and `systemd.journal-fields(7)`.
"""

from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO

import msgspec

from mending.model import LogRecord, clean_text

_LONGEST_LINE, _LONGEST_FIELD = 1 << 20, 1 << 20
_TEXT = 8192
_KEPT = {
    b"MESSAGE",
    b"SYSLOG_IDENTIFIER",
    b"_COMM",
    b"__REALTIME_TIMESTAMP",
    b"__MONOTONIC_TIMESTAMP",
    b"_BOOT_ID",
    b"_TRANSPORT",
    b"_SOURCE_REALTIME_TIMESTAMP",
}


def is_export(head: bytes) -> bool:
    """Whether a file begins as an export does."""
    return head.startswith((b"__CURSOR=", b"__REALTIME_TIMESTAMP="))


def is_json(head: bytes) -> bool:
    """Whether a file begins with an entry as JSON."""
    return head.lstrip()[:1] == b"{" and b'"__REALTIME_TIMESTAMP"' in head


def read_export(stream: BinaryIO) -> Iterator[LogRecord]:
    """The entries of an export, in order; a binary field that is longer than it may be is passed
    over.
    """
    fields: dict[str, str] = {}
    number = 0
    while line := stream.readline(_LONGEST_LINE):
        line = line.rstrip(b"\n")
        if not line:
            if fields:
                number += 1
                yield _record(fields, number)
            fields = {}
            continue
        name, sign, value = line.partition(b"=")
        if not sign:
            value = _binary(stream)
        if name in _KEPT:
            fields[name.decode()] = value[:_TEXT].decode("utf-8", errors="replace")
    if fields:
        yield _record(fields, number + 1)


def read_json(stream: BinaryIO) -> Iterator[LogRecord]:
    """The entries of a JSON export, in order. What is no JSON object is passed over."""
    number = 0
    while line := stream.readline(_LONGEST_LINE):
        try:
            entry: Any = msgspec.json.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
            continue
        number += 1
        if isinstance(entry, dict):
            yield _record(
                {name: _plain(entry[name]) for name in map(bytes.decode, _KEPT) if name in entry},
                number,
            )


def _binary(stream: BinaryIO) -> bytes:
    """A field that has its length in front: eight bytes, little-endian; a line end is behind it."""
    length = int.from_bytes(stream.read(8), "little")
    kept = stream.read(min(length, _LONGEST_FIELD))
    left = length - len(kept)
    while left > 0 and (piece := stream.read(min(left, _LONGEST_FIELD))):
        left -= len(piece)
    stream.read(1)
    return kept


def _plain(value: Any) -> str:
    if isinstance(value, list):
        if all(isinstance(item, int) and 0 <= item < 256 for item in value):
            return bytes(value[:_TEXT]).decode("utf-8", errors="replace")
        value = value[-1]
    return value if isinstance(value, str) else ""


def _record(fields: Mapping[str, str], number: int) -> LogRecord:
    micros = fields.get("_SOURCE_REALTIME_TIMESTAMP") or fields.get("__REALTIME_TIMESTAMP", "")
    kernel = fields.get("_TRANSPORT") == "kernel"
    since = fields.get("__MONOTONIC_TIMESTAMP", "")
    by = "kernel" if kernel else fields.get("SYSLOG_IDENTIFIER") or fields.get("_COMM", "")
    return LogRecord(
        at=_seconds(micros),
        by=clean_text(by, 80),
        text=clean_text(fields.get("MESSAGE", ""), _TEXT),
        start=clean_text(fields.get("_BOOT_ID", ""), 64),
        line=number,
        clock=_seconds(since),
    )


def _seconds(micros: str) -> float | None:
    return int(micros) / 1e6 if micros.isascii() and micros.isdigit() and len(micros) < 18 else None
