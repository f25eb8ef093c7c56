"""Searching a whole disk, and what a key opens on it."""

from collections.abc import Iterator, Sequence
from threading import Lock

import msgspec

from mending.app.opening import opened_disk
from mending.app.targets import NamedTarget
from mending.app.tracing import keep_no_memory
from mending.disk.layout import volume_at
from mending.disk.locked import GivenKey, KeyRing, PlainVolume, plain_volumes
from mending.disk.scan import FoundResult, SearchResult, found_results, search, search_result
from mending.disk.volume import Volume
from mending.model import KINDS, FilesystemKind, Lba, Progress, SectorCount, silent
from mending.source import Source
from mending.source.stitched import OverlaidSource

_MOST_LOCKED = 16
"""That a key is tried on: each costs seconds, as its owner wanted it."""


def search_target(
    target: NamedTarget,
    sector: int | None = None,
    secret: GivenKey | None = None,
    progress: Progress = silent,
) -> SearchResult:
    """Every volume of a disk, listed or not; with a key, what is inside locked ones, too. Those
    that keep their key in the open need none.

    Args:
        secret: what opens locked volumes; it is kept nowhere.

    Raises:
        InputError: it is no disk, or the key opens nothing. UsageError: nothing is locked here, or
            in a way that is not read.
    """
    if secret is not None:
        keep_no_memory()
    with opened_disk(target.path, sector) as source:
        result = search_result(source, progress)
        inside = [
            row
            for volume, plain in plain_volumes(source, _locked(source, result), KeyRing(secret))
            for row in _inside(source, volume, plain, progress)
        ]
    return msgspec.structs.replace(result, found=(*result.found, *inside))


def _locked(source: Source, result: SearchResult) -> Sequence[Volume]:
    """The locked volumes among those that were found."""
    size = source.bytes_per_sector
    found = [
        msgspec.structs.replace(
            volume_at(source, Lba(row.start), SectorCount(row.bytes // size)),
            number=row.listed or number,
        )
        for number, row in enumerate(result.found, 1)
        if KINDS[FilesystemKind(row.filesystem)].is_locked
    ]
    return found[:_MOST_LOCKED]


def _inside(
    source: Source, volume: Volume, plain: PlainVolume, progress: Progress
) -> Iterator[FoundResult]:
    """What lies in the plain bytes of a volume: they are laid over their locked ones, so that a
    volume that knows its own place is right about it.
    """
    lock = Lock()  # the search reads in several threads, which a cipher does not bear

    def view(offset: int, length: int) -> bytes:
        with lock:
            return plain.read(offset, length)

    over = OverlaidSource(source, volume.offset, plain.bytes, view)
    found = search(over, progress, [(int(volume.offset), plain.bytes)])
    for row in found_results(found, source.bytes_per_sector, {}):
        yield msgspec.structs.replace(row, start=row.start - volume.start, inside=volume.start)
