"""The document of a search, as `docs/json.md` describes it."""

from collections.abc import Iterable, Mapping

import msgspec

from mending.disk.layout import Disk, survey
from mending.disk.scan.candidates import Candidate
from mending.disk.scan.disk_map import DiskMap, disk_map
from mending.disk.scan.search import search
from mending.disk.scan.selection import reaching
from mending.model import ByteOffset, InputError, Progress, silent
from mending.source import Source


class FoundResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume.

    Attributes:
        start: in sectors of the disk, or of the volume that it lies in.
        open_ended: it tells no length; where no table does either, `bytes` is the most it can be.
        listed: the number in the table, or None where no table lists it.
        inside: where the locked volume starts in whose plain bytes it was found, in sectors.
    """

    start: int
    bytes: int
    filesystem: str
    label: str
    confidence: float = msgspec.field(name="sureness")
    listed: int | None
    because: tuple[str, ...]
    open_ended: bool = False
    inside: int | None = None


class SearchResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="search/1"):
    """What lies on the disk, listed or not. `map` is None for a file that is no disk."""

    path: str
    bytes: int
    sector: int
    found: tuple[FoundResult, ...]
    map: DiskMap | None


def found_results(
    found: Iterable[Candidate], bytes_per_sector: int, listed: Mapping[ByteOffset, int]
) -> tuple[FoundResult, ...]:
    """The rows of volumes. Args: listed: numbers of those in the table, by their first byte."""
    return tuple(
        FoundResult(
            start=candidate.offset // bytes_per_sector,
            bytes=candidate.bytes,
            filesystem=candidate.filesystem,
            label=candidate.label,
            confidence=candidate.confidence,
            listed=listed.get(candidate.offset),
            because=candidate.because,
            open_ended=candidate.open_ended,
        )
        for candidate in found
    )


def search_result(source: Source, progress: Progress = silent) -> SearchResult:
    """Search a disk and compare with its table."""
    try:
        disk: Disk | None = survey(source)
    except InputError:
        disk = None  # a file that is no disk may hold volumes all the same
    volumes = disk.volumes if disk is not None else ()
    listed = {volume.offset: volume.number for volume in volumes}
    lengths = {volume.offset: volume.bytes for volume in volumes}
    seen = reaching(search(source, progress), lengths, source.size)
    return SearchResult(
        path=source.path,
        bytes=source.size,
        sector=source.bytes_per_sector,
        found=found_results(seen, source.bytes_per_sector, listed),
        map=disk_map(disk, seen) if disk is not None else None,
    )
