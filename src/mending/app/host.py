"""What this machine and this moment are like, gathered at the roof and handed down."""

from collections.abc import Callable
from pathlib import Path

import msgspec

from mending.model import Hand


class Host(msgspec.Struct, frozen=True):
    """Who is at work, and where.

    Attributes:
        who: the process, as another one would be told.
        clock: gives the time in RFC 3339, UTC, to the second.
        undo_folder: where undo points of targets without a case live.
        key: file with the key that seals undo points.
    """

    who: str
    clock: Callable[[], str]
    undo_folder: Path
    key: Path

    @property
    def hand(self) -> Hand:
        """Who writes into a case now."""
        return Hand(who=self.who, since=self.clock())
