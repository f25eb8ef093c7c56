"""The undo journal: the only room that writes to a target, and the undo points that take it
back."""

from mending.repair.journal.undo_points import (
    PointResult,
    PointsResult,
    UndoPoint,
    belongs_to,
    load_points,
)
from mending.repair.journal.writer import roll_back, undo_point, write_point

__all__ = [
    "PointResult",
    "PointsResult",
    "UndoPoint",
    "belongs_to",
    "load_points",
    "roll_back",
    "undo_point",
    "write_point",
]
