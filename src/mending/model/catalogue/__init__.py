"""The catalogue: one row for every kind of finding and for every repair."""

from mending.model.catalogue.findings import FINDINGS, FindingId, FindingRow
from mending.model.catalogue.repairs import REPAIRS, ActsOn, Proof, RepairId, RepairRow

__all__ = [
    "FINDINGS",
    "REPAIRS",
    "ActsOn",
    "FindingId",
    "FindingRow",
    "Proof",
    "RepairId",
    "RepairRow",
]
