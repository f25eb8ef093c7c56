"""Starts, stops and sign-ins out of the record that Linux systems keep of them."""

from typing import BinaryIO

from mending.crash.read.events import LogEvent
from mending.crash.read.file_read import FileRead
from mending.formats.evidence import wtmp
from mending.knowledge import EventKind

_KINDS = {
    wtmp.STARTED: EventKind.START,
    wtmp.STOPPED: EventKind.CLEAN_STOP,
    wtmp.SIGNED_IN: EventKind.SIGNED_IN,
}
_MOST = 200_000


def read_wtmp(name: str, stream: BinaryIO) -> FileRead:
    """What such a file tells."""
    events: list[LogEvent] = []
    previous: float | None = None
    for record in wtmp.read_wtmp(stream):
        if record.at is None or len(events) >= _MOST:
            break
        kind = _KINDS[record.text]
        start = kind is EventKind.START
        events.append(
            LogEvent(
                at=record.at,
                kind=kind,
                name=record.data["user"] if kind is EventKind.SIGNED_IN else "",
                says=record.text,
                file=name,
                line=record.line,
                by=record.by,
                previous=previous if start else None,
            )
        )
        previous = record.at
    times = [event.at for event in events]
    return FileRead(
        name=name,
        kind="sign-ins",
        events=tuple(events),
        first=min(times, default=None),
        last=max(times, default=None),
    )
