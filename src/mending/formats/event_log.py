"""Binary event logs of the nt family (EVTX), read with the package `evtx`.

Source of the mark: the maker's open specification of the file format (file header: `ElfFile`, NUL).
"""

import csv
import io
import struct
from collections.abc import Iterable, Iterator, Mapping
from typing import Any, BinaryIO
from xml.etree import ElementTree

import msgspec

from mending.model import (
    InputError,
    LogRecord,
    RestorePoint,
    clean_text,
    decode_text,
    load_extra,
    read_time,
    wants_day_first,
)

_MARK = b"ElfFile\0"


def is_log(head: bytes) -> bool:
    """Whether a file begins as such a log does."""
    return head.startswith(_MARK)


def events(stream: BinaryIO) -> Iterator[Any]:
    """The events as JSON objects, in the order of the file; damaged ones are passed over.

    Args:
        stream: the file; it must be possible to seek in it.

    Raises:
        InputError: the file's own header cannot be read.
        UsageError: the extra `logs` is not installed.
    """
    package = load_extra("evtx", "logs")
    try:
        rows = iter(package.PyEvtxParser(stream, number_of_threads=1).records_json())
    except (RuntimeError, OSError, ValueError) as error:
        raise InputError("It begins as an event log, but its header is damaged.") from error
    while True:
        try:
            row = next(rows)
        except StopIteration:
            return
        except (
            RuntimeError,
            OSError,
            ValueError,
        ):  # one record that cannot be read; the next ones can
            continue
        try:
            yield msgspec.json.decode(row["data"])
        except (msgspec.DecodeError, RecursionError):
            continue


# Tables of events or of restore points, as tools and shells export them: CSV with names in its
# first row, or JSON.
#
# Source: RFC 4180 (CSV), RFC 8259 (JSON). No standard names the columns; they are known by the
# words in their names.


_COLUMNS = (
    (
        "time",
        (
            "timecreated",
            "creationtime",
            "timegenerated",
            "dateandtime",
            "datetime",
            "timestamp",
            "time",
            "date",
            "at",
        ),
    ),
    ("sequence", ("sequencenumber", "sequence")),
    ("number", ("eventid", "eventcode", "instanceid", "id", "event")),
    ("by", ("providername", "provider", "sourcename", "source")),
    ("text", ("message", "description", "renderedmessage", "says", "text")),
)
_MOST_ROWS, _FIELD = 2_000_000, 200_000
_TEXT = 4000

Row = Mapping[str, str]


def rows_of(data: bytes) -> list[Row]:
    """The rows of a table, each by the names of its columns; empty for what is no table. Any bytes
    are taken.
    """
    text = decode_text(data).lstrip("\ufeff \r\n\t")
    rows = _json_rows(text) if text[:1] in {"[", "{"} else _csv_rows(text)
    return [{_plain(name): value for name, value in row.items()} for row in rows]


def records(rows: Iterable[Row]) -> Iterator[LogRecord]:
    """The events of a table, as far as a row has a time and says who wrote it or what."""
    kept = list(rows)
    names = {what: _column(kept, known) for what, known in _COLUMNS}
    day_first = wants_day_first([row.get(names["time"], "") for row in kept])
    for number, row in enumerate(kept, 1):
        read = read_time(row.get(names["time"], ""), day_first)
        by, text, code = (row.get(names[what], "") for what in ("by", "text", "number"))
        if read is None or not (by or text):
            continue
        yield LogRecord(
            at=read[0],
            zoned=read[1],
            by=clean_text(by, 120),
            text=clean_text(text, _TEXT),
            line=number,
            number=int(code) if code.isascii() and code.isdigit() and len(code) < 10 else None,
        )


def restore_points(rows: Iterable[Row]) -> list[RestorePoint]:
    """The restore points of a table; empty where its columns are not those of such a list."""
    kept = list(rows)
    time = _column(kept, dict(_COLUMNS)["time"])
    name = _column(kept, (*dict(_COLUMNS)["sequence"], "id"))
    says = _column(kept, dict(_COLUMNS)["text"])
    if not (time and name and says) or _column(kept, dict(_COLUMNS)["by"]):
        return []
    read = [(row, read_time(row.get(time, ""))) for row in kept]
    return [
        RestorePoint(clean_text(row.get(name, ""), 40), at[0], clean_text(row.get(says, ""), 200))
        for row, at in read
        if at
    ]


def _csv_rows(text: str) -> list[dict[str, str]]:
    first = text.split("\n", 1)[0]
    delimiter = max(",;\t", key=first.count)
    if not first.count(delimiter):
        return []
    csv.field_size_limit(_FIELD)
    reader = csv.DictReader(io.StringIO(text, newline=""), delimiter=delimiter, restval="")
    found: list[dict[str, str]] = []
    try:
        for row in reader:
            found.append(
                {str(name): value for name, value in row.items() if isinstance(value, str)}
            )
            if len(found) >= _MOST_ROWS:
                break
    except csv.Error:  # a field without end, or NULs: what came before it counts
        return found
    return found


def _json_rows(text: str) -> list[dict[str, str]]:
    try:
        value: Any = msgspec.json.decode(text)
    except (msgspec.DecodeError, RecursionError):
        value = [
            row
            for line in text.splitlines()[:_MOST_ROWS]
            if isinstance(row := _decoded(line), dict)
        ]
    if isinstance(value, dict):
        value = next((inside for inside in value.values() if isinstance(inside, list)), [])
    return [
        {str(name): _word(item) for name, item in row.items()}
        for row in value
        if isinstance(row, dict)
    ]


def _decoded(line: str) -> Any:
    try:
        return msgspec.json.decode(line)
    except (msgspec.DecodeError, RecursionError):
        return None


def _word(value: Any) -> str:
    """A value as text; of an object, what it shows of itself (a time is often wrapped so)."""
    if isinstance(value, dict):
        value = next(
            (item for name, item in value.items() if _plain(name) in {"datetime", "value"}), ""
        )
    return "" if value is None else str(value)


def _plain(name: str) -> str:
    return "".join(char for char in name.casefold() if char.isalnum())


def _column(rows: list[Row], known: tuple[str, ...]) -> str:
    """The column that is called so, the most telling name first; empty where there is none."""
    names = set(rows[0]) if rows else set()
    return next((text for text in known if text in names), "")


# One entry of an event log of the nt family, as XML or as JSON of the same shape.
#
# Source: the maker's published schema of events: `System` holds provider, number, time and record
# number, `EventData` or `UserData` the named values; a value without a name is counted.


_PIECE = 1 << 16
_EVENT_RECORD_TEXT, _MOST_VALUES, _DEPTH = 4000, 64, 8
_NO_NUMBER = 1 << 32
_REFUSED = tuple(
    word.encode(code)
    for word in ("<!DOCTYPE", "<!ENTITY")
    for code in ("ascii", "utf-16-le", "utf-16-be")
)


def is_xml(head: bytes) -> bool:
    """Whether a file begins as exported events do; `head` is text in UTF-8."""
    plain = head.removeprefix(b"\xef\xbb\xbf").lstrip()
    return plain[:1] == b"<" and (b"<Event" in plain)


def read_xml(stream: BinaryIO) -> Iterator[LogRecord]:
    """The events of an export, in order; entities of its own are refused, for they can grow without
    end.

    Raises:
        InputError: the text is no XML, behind the events that were given.
    """
    parser: Any = ElementTree.XMLPullParser(["start", "end"])
    number, root, last = 0, None, b""
    try:
        while piece := stream.read(_PIECE):
            if any(mark in last + piece for mark in _REFUSED):
                raise InputError(
                    "The XML declares entities of its own, which no export of events does."
                )
            last = piece[-32:]
            parser.feed(piece)
            for what, element in parser.read_events():
                root = element if root is None else root
                if what == "end" and _bare(element.tag) == "Event":
                    number += 1
                    yield _from_element(element, number)
                    root.clear()
    except (ElementTree.ParseError, LookupError, ValueError) as error:
        # The latter two of an encoding that the first line names and that is not known here.
        raise InputError(f"The XML is damaged behind {number} events: {error}.") from error


def from_json(event: Any, number: int) -> LogRecord:
    """The record of an event that was read as JSON. What is missing is left empty."""
    body = event.get("Event", event) if isinstance(event, dict) else {}
    body = body if isinstance(body, dict) else {}
    system = body.get("System")
    system = system if isinstance(system, dict) else {}
    values: dict[str, str] = {}
    for part in ("EventData", "UserData"):
        _flatten(body.get(part), values, 0)
    provider = _attribute(system.get("Provider"), "Name") or _attribute(
        system.get("Provider"), "EventSourceName"
    )
    time = _attribute(system.get("TimeCreated"), "SystemTime")
    return _record(provider, _text(system.get("EventID")), time, "", values, number)


def _from_element(element: ElementTree.Element, number: int) -> LogRecord:
    provider = time = identity = words = ""
    values: dict[str, str] = {}
    for child in element:
        name = _bare(child.tag)
        if name == "System":
            for node in child:
                what = _bare(node.tag)
                provider = (
                    node.get("Name") or node.get("EventSourceName") or ""
                    if what == "Provider"
                    else provider
                )
                time = node.get("SystemTime", "") if what == "TimeCreated" else time
                identity = (node.text or "") if what == "EventID" else identity
        elif name in {"EventData", "UserData"}:
            for node in child.iter():
                if (
                    node is not child
                    and node.text
                    and node.text.strip()
                    and len(values) < _MOST_VALUES
                ):
                    values[node.get("Name") or f"param{len(values) + 1}"] = clean_text(
                        node.text.strip(), 500
                    )
        elif name == "RenderingInfo":
            words = next((node.text or "" for node in child if _bare(node.tag) == "Message"), "")
    return _record(provider, identity, time, words, values, number)


def _record(
    by: str, identity: str, time: str, words: str, values: Mapping[str, str], number: int
) -> LogRecord:
    read = read_time(time)
    code = int(identity) if identity.strip().isascii() and identity.strip().isdigit() else None
    text = words or " ".join(values.values())
    return LogRecord(
        at=read[0] if read else None,
        by=clean_text(by, 120),
        text=clean_text(text, _EVENT_RECORD_TEXT),
        data=values,
        line=number,
        number=code if code is not None and code < _NO_NUMBER else None,
    )


def _flatten(value: Any, into: dict[str, str], depth: int, name: str = "") -> None:
    """Named values at any depth, with a limit on both."""
    if depth > _DEPTH or len(into) >= _MOST_VALUES:
        return
    if isinstance(value, dict):
        for key, item in value.items():
            if not str(key).endswith("attributes"):
                _flatten(item, into, depth + 1, name if key in {"Data", "#text"} else str(key))
    elif isinstance(value, list):
        for item in value:
            _flatten(item, into, depth + 1, "")
    elif value is not None:
        into[clean_text(name, 80) or f"param{len(into) + 1}"] = clean_text(str(value), 500)


def _attribute(value: Any, name: str) -> str:
    inside = value.get("#attributes", value) if isinstance(value, dict) else {}
    found = inside.get(name) if isinstance(inside, dict) else None
    return found if isinstance(found, str) else ""


def _text(value: Any) -> str:
    return str(value.get("#text", "")) if isinstance(value, dict) else str(value)


def _bare(tag: str) -> str:
    """A name without its namespace."""
    return tag.rpartition("}")[2]


# The older binary event log of the nt family: records of a ring, each with its length in front and
# behind.
#
# The header says where the oldest record is, unless the system was not shut down: then it is stale.
# So records are found by their mark, whatever the header says, and put in the order of their
# numbers.
#
# Source: the maker's open specification of the format ("Event Log File Format", `EVENTLOGRECORD`
# and `ELF_LOGFILE_HEADER`); what is read was compared with an independent reader.


MAGIC = b"LfLe"
OLDER_HEADER_BYTES = 48
_RECORD = struct.Struct("<I4sIIIIHHHHIIIIII")
_LEAST, _MOST = 56, 1 << 20
_MOST_RECORDS, _MOST_STRINGS = 500_000, 64
_OLDER_EVENT_LOG_TEXT = 2000


def is_older_log(head: bytes) -> bool:
    """Whether a file begins as such a log does."""
    return (
        len(head) >= OLDER_HEADER_BYTES
        and head[:8] == struct.pack("<I", OLDER_HEADER_BYTES) + MAGIC
    )


def read_older_log(data: bytes) -> Iterator[LogRecord]:
    """The records, each once, in the order of their numbers.

    Args:
        data: the whole file.
    """
    found: dict[int, LogRecord] = {}
    for at in _places(data):
        record = _older_event_log_record(data, at)
        if record is not None and record.line not in found and len(found) < _MOST_RECORDS:
            found[record.line] = record
    yield from (found[number] for number in sorted(found))


def _places(data: bytes) -> Iterator[int]:
    """Where records may begin: four bytes in front of each mark behind the header."""
    at = data.find(MAGIC, OLDER_HEADER_BYTES)
    while at >= 0:
        yield at - 4
        at = data.find(MAGIC, at + 4)


def _older_event_log_record(data: bytes, at: int) -> LogRecord | None:
    """The record at a place; None where its lengths do not agree, or it goes over the end of the
    ring.
    """
    if at < OLDER_HEADER_BYTES or at + _LEAST > len(data):
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
        text=clean_text(" ".join(values.values()), _OLDER_EVENT_LOG_TEXT),
        data=values,
        line=number,
    )


def _words(body: bytes, at: int) -> tuple[str, int]:
    """A text that ends in a zero of two bytes, and the place behind it."""
    end = at
    while end + 1 < len(body) and body[end : end + 2] != b"\0\0":
        end += 2
    return body[at:end].decode("utf-16-le", "replace"), end + 2
