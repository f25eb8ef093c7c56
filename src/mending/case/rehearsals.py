"""What a case remembers of runs of its disk's own boot code."""

from collections.abc import Sequence

from mending.case.events import Rehearsed
from mending.case.folder import Case, record
from mending.model import Hand


def rehearsed(
    case: Case, hand: Hand, stopped: str, screen: Sequence[str], started_volume: bool
) -> Case:
    """Record how far the disk's own boot code got."""
    event = Rehearsed(
        at=hand.since, stopped=stopped, screen=tuple(screen), started_volume=started_volume
    )
    return record(case, hand, event)
