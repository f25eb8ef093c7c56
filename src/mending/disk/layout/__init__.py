"""How a disk is divided: sector size, MBR or GPT, the EBR chain, volumes, and what no entry
covers."""

from mending.disk.layout.arrays import (
    Array,
    mirrored,
    with_arrays,
    with_logical_volumes,
    with_other_disks,
)
from mending.disk.layout.survey import (
    ALIGNED,
    Disk,
    Scheme,
    disk_at_moment,
    find_unlisted_volumes,
    identifier_ranges,
    survey,
    usable_range,
    volume_at,
    volume_at_moment,
)
from mending.disk.layout.tables import Gpt, GptCopy, settle_sector_size, walk_ebr_chain

__all__ = [
    "ALIGNED",
    "Array",
    "Disk",
    "Gpt",
    "GptCopy",
    "Scheme",
    "disk_at_moment",
    "find_unlisted_volumes",
    "identifier_ranges",
    "mirrored",
    "settle_sector_size",
    "survey",
    "usable_range",
    "volume_at",
    "volume_at_moment",
    "walk_ebr_chain",
    "with_arrays",
    "with_logical_volumes",
    "with_other_disks",
]
