"""Tables of events or of restore points, as tools and shells export them: CSV with names in its
first row, or JSON.

Source: RFC 4180 (CSV), RFC 8259 (JSON). No standard names the columns; they are known by the words
in their names.
"""

import csv
import io
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

import msgspec

from mending.model import (
    LogRecord,
    RestorePoint,
    clean_text,
    decode_text,
    read_time,
    wants_day_first,
)

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
