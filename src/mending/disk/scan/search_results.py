"""The document of a search, as `docs/json.md` describes it."""

import msgspec

from mending.disk.layout import Disk, survey
from mending.disk.scan.disk_map import DiskMap, disk_map
from mending.disk.scan.search import search
from mending.model import InputError, Progress, silent
from mending.source import Source


class FoundResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume. `start` is in sectors; `listed` is the number in the table, or None where no
    table lists it.
    """

    start: int
    bytes: int
    filesystem: str
    label: str
    confidence: float = msgspec.field(name="sureness")
    listed: int | None
    because: tuple[str, ...]


class SearchResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="search/1"):
    """What lies on the disk, listed or not. `map` is None for a file that is no disk."""

    path: str
    bytes: int
    sector: int
    found: tuple[FoundResult, ...]
    map: DiskMap | None


def search_result(source: Source, progress: Progress = silent) -> SearchResult:
    """Search a disk and compare with its table."""
    try:
        disk: Disk | None = survey(source)
    except InputError:
        disk = None  # a file that is no disk may hold volumes all the same
    listed = {volume.offset: volume.number for volume in disk.volumes} if disk is not None else {}
    seen = search(source, progress)
    found = tuple(
        FoundResult(
            start=candidate.offset // source.bytes_per_sector,
            bytes=candidate.bytes,
            filesystem=candidate.filesystem,
            label=candidate.label,
            confidence=candidate.confidence,
            listed=listed.get(candidate.offset),
            because=candidate.because,
        )
        for candidate in seen
    )
    return SearchResult(
        path=source.path,
        bytes=source.size,
        sector=source.bytes_per_sector,
        found=found,
        map=disk_map(disk, seen) if disk is not None else None,
    )
