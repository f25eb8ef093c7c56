"""Findings about volumes themselves: boot sectors, superblocks, mirrors, names that stand twice."""

from mending.boot.volumes.boot_sector_findings import (
    HARMLESS,
    boot_sector_repairs,
    damage_aside,
    doubts,
    is_misplaced,
)
from mending.boot.volumes.findings import (
    BLINDING,
    array_findings,
    entry_is_beside,
    unlisted_findings,
    volume_findings,
)

__all__ = [
    "BLINDING",
    "HARMLESS",
    "array_findings",
    "boot_sector_repairs",
    "damage_aside",
    "doubts",
    "entry_is_beside",
    "is_misplaced",
    "unlisted_findings",
    "volume_findings",
]
