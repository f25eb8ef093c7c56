"""How a disk is divided: sector size, MBR or GPT, the EBR chain, volumes, and what no entry
covers."""

from mending.disk.layout.arrays import Array, mirrored, with_arrays
from mending.disk.layout.ebr_chain import walk_ebr_chain
from mending.disk.layout.gpt_copies import Gpt, GptCopy
from mending.disk.layout.identifiers import identifier_ranges
from mending.disk.layout.logical import with_logical_volumes
from mending.disk.layout.moments import disk_at_moment, volume_at_moment
from mending.disk.layout.other_disks import with_other_disks
from mending.disk.layout.sector_size import settle_sector_size
from mending.disk.layout.survey import Disk, Scheme, survey, volume_at
from mending.disk.layout.unallocated import ALIGNED, find_unlisted_volumes, usable_range

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
