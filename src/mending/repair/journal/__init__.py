"""The undo journal: the only room that writes to a target, and the undo points that take it
back."""

from mending.repair.journal.journal import NOTHING_MORE, Allowed, Journal, state_here
from mending.repair.journal.undo_points import (
    DamagedResult,
    PointResult,
    PointsResult,
    UndoPoint,
    UndoPoints,
)

__all__ = [
    "NOTHING_MORE",
    "Allowed",
    "DamagedResult",
    "Journal",
    "PointResult",
    "PointsResult",
    "UndoPoint",
    "UndoPoints",
    "state_here",
]
