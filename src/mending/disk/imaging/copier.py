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
_WORDS = {
    Worth.START: "what starts the PC",
    Worth.STRUCTURES: "file system structures",
    Worth.WANTED: "files asked for",
    Worth.FILES: "other files",
    Worth.USED: "else in use",
    Worth.UNKNOWN: "outside of volumes",
    Worth.REST: "free space",
}


class Progress(msgspec.Struct, frozen=True):
    """How far it is: bytes safe and in all; in words, what is being read, and how much of it is
    safe.
    """

    safe: int
    total: int
    says: str


Told = Callable[[Progress], None]


class _Tally:
    """How much of each part is to be fetched, and how much came."""

    def __init__(self) -> None:
        self._wanted = dict.fromkeys(Worth, 0)
        self._came = dict.fromkeys(Worth, 0)

    def expect(self, worth: Worth, count: int) -> None:
        self._wanted[worth] += count

    def came(self, worth: Worth, count: int) -> None:
        self._came[worth] += count

    def says(self, worth: Worth, effort: int) -> str:
        """What is being read, in words."""
        share = self._came[worth] / max(self._wanted[worth], 1)
        return f"{_WORDS[worth]}{' again' if effort else ''}: {share:.0%} safe"


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
        told: is told how far it is.
        may_stop: as soon as a structure comes that had failed.

    Raises:
        DriveGoneError: the drive does not answer any more.
        InputError: the image cannot be written.
    """
    record, queue, tally = source.image.record, _Queue(source), _Tally()
    for stretch in stretches:
        tally.expect(stretch.worth, queue.put_missing(stretch))
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
                tally.came(worth, last - first)
            else:
                queue.put(worth, first, last, effort + 1)
        queue.put(worth, stop, end, effort)
        told(Progress(record.safe.total, source.size, tally.says(worth, effort)))
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

    def put_missing(self, stretch: Stretch) -> int:
        """What of a stretch is not safe, in pieces, each as hard as it has to be tried; gives how
        many bytes that is.
        """
        unit = self._source.bytes_per_sector
        start = stretch.start // unit * unit
        end = min(-(-stretch.end // unit) * unit, self._source.size)
        missing = list(self._source.missing(start, end))
        for first, last, effort in missing:
            for at in range(first, last, _QUEUED):
                self.put(stretch.worth, at, min(at + _QUEUED, last), effort)
        return sum(last - first for first, last, _ in missing)

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
