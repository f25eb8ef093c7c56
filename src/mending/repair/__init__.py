"""Offline repairs: one module each, findings in, patches out. `journal` alone writes, flushes and undoes."""

from mending.repair.journal import undo_point, write_point
from mending.repair.mend import MendAllResult, MendResult, Preview, WriteResult, carry_out, preview, wanted
from mending.repair.points import PointResult, PointsResult, UndoPoint, belongs_to, load_points
from mending.repair.proposal import Leave, Proposal
from mending.repair.registry import REPAIRS, propose

__all__ = [
    "REPAIRS",
    "Leave",
    "MendAllResult",
    "MendResult",
    "PointResult",
    "PointsResult",
    "Preview",
    "Proposal",
    "UndoPoint",
    "WriteResult",
    "belongs_to",
    "carry_out",
    "load_points",
    "preview",
    "propose",
    "undo_point",
    "wanted",
    "write_point",
]
