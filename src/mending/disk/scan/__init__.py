"""The search of a whole disk for volumes, listed or not, and the map of what lies where."""

from mending.disk.scan.candidates import Candidate
from mending.disk.scan.disk_map import DiskMap, Stretch, disk_map, lost_between
from mending.disk.scan.search import search
from mending.disk.scan.search_results import (
    FoundResult,
    SearchResult,
    found_results,
    search_result,
)
from mending.disk.scan.selection import reaching

__all__ = [
    "Candidate",
    "DiskMap",
    "FoundResult",
    "SearchResult",
    "Stretch",
    "disk_map",
    "found_results",
    "lost_between",
    "reaching",
    "search",
    "search_result",
]
