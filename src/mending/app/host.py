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
        key: file with the key that seals undo points, and what cases name outside of themselves.
        ask: puts a question that is answered by yes or no; None where nobody can be asked.
        told: is told what a person should know beside the result; None: it is not said.
    """

    who: str
    clock: Callable[[], str]
    undo_folder: Path
    key: Path
    ask: Callable[[str], bool] | None = None
    told: Callable[[str], None] | None = None

    def confirm(self, question: str) -> bool:
        """Whether somebody says yes; no where nobody can be asked."""
        return self.ask is not None and self.ask(question)

    def tell(self, sentence: str) -> None:
        """Say something beside the result."""
        if self.told is not None:
            self.told(sentence)

    @property
    def hand(self) -> Hand:
        """Who writes into a case now."""
        return Hand(who=self.who, since=self.clock())
