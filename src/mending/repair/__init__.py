"""Offline repairs: one module each, findings in, patches out. `journal` alone writes, flushes and undoes."""

from mending.repair.boot_code import own_code
from mending.repair.file_check import FileResult, FilesResult, check_files
from mending.repair.journal import undo_point, write_point
from mending.repair.mend import MendResult, Preview, WriteResult, carry_out, preview
from mending.repair.points import PointResult, PointsResult, UndoPoint, belongs_to, load_points
from mending.repair.proposal import Leave, Proposal
from mending.repair.registry import REPAIRS, propose
from mending.repair.sequence import MendAllResult, next_repair, preview_all, reason, sum_up, wanted
from mending.repair.touching import Ground

__all__ = [
    "REPAIRS",
    "FileResult",
    "FilesResult",
    "Ground",
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
    "check_files",
    "load_points",
    "next_repair",
    "own_code",
    "preview",
    "preview_all",
    "propose",
    "reason",
    "sum_up",
    "undo_point",
    "wanted",
    "write_point",
]
