"""One entry of any log, before anybody has said what it means."""

from collections.abc import Mapping

import msgspec


class RestorePoint(msgspec.Struct, frozen=True):
    """Something that a PC's own system keeps to go back to: its name there, Unix seconds, what was
    written with it.
    """

    id: str
    at: float
    says: str


class LogRecord(msgspec.Struct, frozen=True, kw_only=True):
    """What a log says in one place.

    Attributes:
        at: Unix seconds, UTC; None where the entry has no time. `zoned` is false where no zone was
            written with it.
        by: who wrote it: a program, a unit, a provider.
        number: of the kind of event, where its author numbers them.
        text: the message.
        data: named values beside the message.
        start: which start of the PC it belongs to, where the log tells; any text that is the same
            for one start.
        clock: seconds since that start, by the kernel's own clock, where it is written.
        line: line or record number, from 1.
    """

    at: float | None
    by: str = ""
    number: int | None = None
    text: str = ""
    data: Mapping[str, str] = {}
    start: str = ""
    line: int = 0
    zoned: bool = True
    clock: float | None = None
