"""One entry of an event log of the nt family, as XML or as JSON of the same shape.

Source: the maker's published schema of events: `System` holds provider, number, time and record
number, `EventData` or `UserData` the named values; a value without a name is counted.
"""

from collections.abc import Iterator, Mapping
from typing import Any, BinaryIO
from xml.etree import ElementTree

from mending.model import InputError, LogRecord, clean_text, read_time

_PIECE = 1 << 16
_TEXT, _MOST_VALUES, _DEPTH = 4000, 64, 8
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
        text=clean_text(text, _TEXT),
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
