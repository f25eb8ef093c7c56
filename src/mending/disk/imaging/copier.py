"""The rest of a drive, piece by piece: a queue of stretches, of which the one that promises most is
next.

A read that fails is cut smaller and comes again when everything better is safe; a region that
failed or was slow waits behind others of the same worth.
"""

import heapq
from collections.abc import Callable, Iterable

import msgspec

from mending.disk.imaging.copying_source import CopyingSource
from mending.disk.imaging.worth import Stretch, Worth

_QUEUED = 16 << 20
"""Longest stretch that waits in one piece: odds differ along it."""
Told = Callable[[int, int], None]


class Copied(msgspec.Struct, frozen=True):
    """How it ended. `again`: structures came that had failed before, so that there may be more to
    find.
    """

    safe: int
    again: bool


def fetch_all(
    source: CopyingSource,
    stretches: Iterable[Stretch],
    most_effort: int,
    told: Told,
    *,
    may_stop: bool = False,
) -> Copied:
    """Fetch everything that is not safe yet.

    Args:
        most_effort: how often a piece is tried again, each time in smaller bites.
        told: takes bytes safe and bytes in all.
        may_stop: as soon as a structure comes that had failed.

    Raises:
        DriveGoneError: the drive does not answer any more.
        InputError: the image cannot be written.
    """
    record, queue = source.image.record, _Queue(source)
    for stretch in stretches:
        queue.put_missing(stretch)
    while (item := queue.take()) is not None:
        worth, start, end, effort = item
        if effort > most_effort:
            continue
        size = source.regions.bite(start, effort, source.bytes_per_sector)
        stop = min(end, start + size)
        came = False
        for first, last, wanted in list(source.missing(start, stop)):
            if wanted > effort:
                continue  # it waits elsewhere, for a harder try
            if source.fetch(first, last, effort):
                came = True
            else:
                queue.put(worth, first, last, effort + 1)
        queue.put(worth, stop, end, effort)
        told(record.safe.total, source.size)
        if came and effort and may_stop and worth is Worth.STRUCTURES:
            source.end()
            return Copied(record.safe.total, True)
    source.end()
    return Copied(record.safe.total, False)


class _Queue:
    """Stretches by what they promise. A score is looked at again when its turn comes, for its
    region may have answered since.
    """

    def __init__(self, source: CopyingSource) -> None:
        self._source = source
        self._heap: list[tuple[int, int, int, Worth, int]] = []

    def put_missing(self, stretch: Stretch) -> None:
        """What of a stretch is not safe, in pieces, each as hard as it has to be tried."""
        unit = self._source.bytes_per_sector
        start = stretch.start // unit * unit
        end = min(-(-stretch.end // unit) * unit, self._source.size)
        for first, last, effort in list(self._source.missing(start, end)):
            for at in range(first, last, _QUEUED):
                self.put(stretch.worth, at, min(at + _QUEUED, last), effort)

    def put(self, worth: Worth, start: int, end: int, effort: int) -> None:
        """Put a piece in."""
        if start < end:
            score = self._source.regions.score(start, worth, effort)
            heapq.heappush(self._heap, (-score, start, end, worth, effort))

    def take(self) -> tuple[Worth, int, int, int] | None:
        """The best piece: worth, start, end, effort."""
        while self._heap:
            score, start, end, worth, effort = heapq.heappop(self._heap)
            now = -self._source.regions.score(start, worth, effort)
            if now > score and self._heap and now > self._heap[0][0]:
                heapq.heappush(self._heap, (now, start, end, worth, effort))
                continue
            return worth, start, end, effort
        return None
