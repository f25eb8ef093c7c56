"""What one file of evidence tells."""

import msgspec

from mending.crash.read.events import LogEvent
from mending.crash.results import CrashResult, RepairAttempt
from mending.model import RestorePoint


class FileRead(msgspec.Struct, frozen=True, kw_only=True):
    """What one file tells.

    Attributes:
        kind: what it was taken for.
        first, last: Unix seconds of its first and its last entry that has a time.
        last_words: what the last entry says, and who says it; empty where that is not at hand.
        zoned: whether its times carry a zone.
        yearless: whether its times carry no year, which was worked out.
        notes: what could not be read, in sentences.
    """

    name: str
    kind: str
    crashes: tuple[CrashResult, ...] = ()
    events: tuple[LogEvent, ...] = ()
    points: tuple[RestorePoint, ...] = ()
    repairs: tuple[RepairAttempt, ...] = ()
    first: float | None = None
    last: float | None = None
    last_words: str = ""
    zoned: bool = True
    yearless: bool = False
    notes: tuple[str, ...] = ()
