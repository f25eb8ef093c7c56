"""The document of a search, as `docs/json.md` describes it."""

import msgspec

from mending.disk.search import Progress, search, silent
from mending.disk.survey import survey
from mending.model import InputError
from mending.source import Source


class FoundResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume. `start` is in sectors; `listed` is the number in the table, or None where no table lists it."""

    start: int
    bytes: int
    filesystem: str
    label: str
    sureness: float
    listed: int | None
    because: tuple[str, ...]


class SearchResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="search/1"):
    """What lies on the disk, listed or not."""

    path: str
    bytes: int
    sector: int
    found: tuple[FoundResult, ...]


def search_result(source: Source, progress: Progress = silent) -> SearchResult:
    """Search a disk and compare with its table.

    Raises:
        UsageError: the extra `search` is not installed.
    """
    try:
        listed = {volume.offset: volume.number for volume in survey(source).volumes}
    except InputError:
        listed = {}  # a file that is no disk may hold volumes all the same
    found = tuple(
        FoundResult(
            start=one.offset // source.bytes_per_sector, bytes=one.bytes, filesystem=one.filesystem, label=one.label,
            sureness=one.sureness, listed=listed.get(one.offset), because=one.because,
        )
        for one in search(source, progress)
    )  # fmt: skip
    return SearchResult(path=source.path, bytes=source.size, sector=source.bytes_per_sector, found=found)
