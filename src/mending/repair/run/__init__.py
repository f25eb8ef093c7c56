"""One repair from proposal to proof, and several one after the other."""

from mending.repair.run.mend import (
    Examined,
    MendResult,
    Preview,
    WriteResult,
    carry_out,
    examine,
    preview,
)
from mending.repair.run.offers import with_offers
from mending.repair.run.registry import repair_of
from mending.repair.run.sequence import MendAllResult, PlannedSequence, preview_all, wanted

__all__ = [
    "Examined",
    "MendAllResult",
    "MendResult",
    "PlannedSequence",
    "Preview",
    "WriteResult",
    "carry_out",
    "examine",
    "preview",
    "preview_all",
    "repair_of",
    "wanted",
    "with_offers",
]
