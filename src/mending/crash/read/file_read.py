"""What one file of evidence tells."""

from typing import BinaryIO

import msgspec

from mending.crash.read.events import LogEvent
from mending.crash.results import CrashResult, RepairAttempt
from mending.model import InputError, RestorePoint
from mending.model.limits import TABLE_FILE_BYTES


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


def held_whole(stream: BinaryIO, name: str, most: int = TABLE_FILE_BYTES) -> bytes:
    """A whole file that is looked at in one piece.

    Raises:
        InputError: one that is too large for that.
    """
    data = stream.read(most + 1)
    if len(data) > most:
        raise InputError(
            f"{name} has more than {most} bytes, which is too much for a file of its kind."
        )
    return data
