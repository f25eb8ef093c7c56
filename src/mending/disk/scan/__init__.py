"""The search of a whole disk for volumes, listed or not, and the map of what lies where."""

from mending.disk.scan.candidates import Candidate
from mending.disk.scan.search import (
    DiskMap,
    FoundResult,
    SearchResult,
    Stretch,
    disk_map,
    found_results,
    lost_between,
    reaching,
    search,
    search_result,
)

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
