"""A drive read through its growing image: what is safe comes from the image, everything else from
the drive, and then it is safe.
"""

import math
import time
from collections.abc import Callable, Iterator

from mending.model import InputError, ReadError, RefusedError, Window
from mending.model.limits import WINDOW_BYTES
from mending.source import Source, TargetKind
from mending.source.imaging import ByteRanges, GrowingImage
from mending.source.targets import DiskTarget

# What the drive has shown so far, by regions: how often it answered, and how long it took.
#
# A piece near others that failed is likely to fail, and one near slow ones to be slow; a drive has
# so many seconds left, and no more. Both go into the score by which the next piece is chosen.


REGION = 8 << 20
_BITES = (64 << 10, 16 << 10, 4 << 10)
"""Bytes of one read by effort; after that it is one sector."""
_LARGE_BITE, _SURE_AFTER, _SMALL_BITE, _DOUBTFUL = 1 << 20, 4, 32 << 10, 0.4
"""A region that answered so often is read in large bites; one whose odds are so small, in small
ones.
"""
_PENALTIES = (0, 2, 5, 9)
_AGAIN = 6
"""Powers of two that each effort costs: cut smaller most of a piece comes, and the same sector once
more comes seldom.
"""
_LEAST_SECONDS, _MAY_DIFFER = 1e-6, 4


class Regions:
    """Answers of a drive. Times are in seconds.

    Attributes:
        asked: bytes that the drive was asked for.
        seconds: how long its answers took in all.
    """

    def __init__(self) -> None:
        self.asked, self.seconds, self._reads = 0, 0.0, 0
        self._good: dict[int, int] = {}
        self._bad: dict[int, int] = {}
        self._pace: dict[int, float] = {}

    def answered(
        self, offset: int, length: int, seconds: float, effort: int, *, good: bool
    ) -> None:
        """Take an answer in. Places that failed before say nothing new about their region."""
        self.asked += length
        self.seconds += seconds
        self._reads += 1
        region = offset // REGION
        if good or not effort:
            tally = self._good if good else self._bad
            tally[region] = tally.get(region, 0) + 1
        before = self._pace.get(region, seconds)
        self._pace[region] = 0.7 * before + 0.3 * seconds

    def odds(self, offset: int) -> float:
        """The chance that a piece can be read, from its region and the two beside it."""
        middle = offset // REGION
        good = bad = 0.0
        for region, weight in ((middle, 1.0), (middle - 1, 0.3), (middle + 1, 0.3)):
            good += weight * self._good.get(region, 0)
            bad += weight * self._bad.get(region, 0)
        return (good + 2) / (good + 2 + 4 * bad)

    def slowness(self, offset: int) -> float:
        """How much longer an answer takes here than elsewhere; 1 where nothing is known, and up to
        what long and short reads differ by.
        """
        pace = self._pace.get(offset // REGION)
        if pace is None:
            return 1.0
        usual = max(self.seconds / self._reads, _LEAST_SECONDS)
        return max(pace / usual / _MAY_DIFFER, 1.0)

    def score(self, offset: int, worth: int, effort: int) -> int:
        """How much a piece promises, as a power of two: whole numbers, so that small differences
        do not make the drive jump.
        """
        promised = self.odds(offset) / self.slowness(offset)
        further = max(effort - len(_PENALTIES) + 1, 0)
        cost = _PENALTIES[min(effort, len(_PENALTIES) - 1)] + _AGAIN * further
        return worth - cost + round(math.log2(max(promised, 1e-9)))

    def bite(self, offset: int, effort: int, sector: int) -> int:
        """How many bytes are asked for at once."""
        if effort >= len(_BITES):
            return sector
        region = offset // REGION
        if effort == 0 and not self._bad.get(region) and self._good.get(region, 0) >= _SURE_AFTER:
            return _LARGE_BITE
        if effort == 0 and self.odds(offset) < _DOUBTFUL:
            return _SMALL_BITE
        return _BITES[effort]


_PATIENCE, _MOST_PATIENCE = 8, 1024
"""Failures in a row after which it is asked whether the drive still answers at all; the longer
it did, the more.
"""
_FAR = 16 << 20
"""Bytes from a bad place to one that has nothing to do with it."""


class DriveGoneError(InputError):
    """The drive does not answer any more."""


class CopyingSource(DiskTarget):
    """See the module. Bytes that failed once are not asked for again by reads: `fetch` does that,
    when their turn comes.

    Attributes:
        wanted_in_vain: what reads asked for and could not have.
    """

    def __init__(
        self,
        drive: Source,
        image: GrowingImage,
        regions: Regions,
        clock: Callable[[], float] = time.monotonic,
    ) -> None:
        self._drive, self.image, self.regions, self._clock = drive, image, regions, clock
        self.path = drive.path
        self.kind: TargetKind = drive.kind
        self.size, self.bytes_per_sector = drive.size, drive.bytes_per_sector
        self.serial = drive.serial
        self._failed: list[tuple[int, int, int]] = []
        self._answered_at: int | None = None
        self.wanted_in_vain = ByteRanges()
        self._gone: DriveGoneError | None = None
        self._drive_bytes = b""
        self._patience = _PATIENCE

    @property
    def bytes_read(self) -> int:
        """What was asked of the drive."""
        return self.regions.asked

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        wanted = max(0, min(length, self.size - offset, WINDOW_BYTES))
        if not wanted or offset < 0:
            return Window(b"", offset)
        unit = self.bytes_per_sector
        first, last = offset // unit * unit, min(-(-(offset + wanted) // unit) * unit, self.size)
        for start, end, effort in list(self.missing(first, last)):
            if effort or not self.fetch(start, end, 0):
                self.wanted_in_vain.add(start, end)
                raise self._unreadable(start, end)
        return Window(self.image.read(offset, wanted), offset)

    def missing(self, start: int, end: int) -> Iterator[tuple[int, int, int]]:
        """The parts of a range that are not safe, each with how hard it should be tried next; what
        failed just now is counted in.
        """
        for first, last, effort in self.image.record.missing(start, end):
            just = max(
                (
                    tried + 1
                    for at, length, tried in self._failed
                    if at < last and first < at + length
                ),
                default=0,
            )
            yield first, last, max(effort, just)

    def fetch(self, start: int, end: int, effort: int) -> bool:
        """Ask the drive for bytes that are not safe; says whether they came.

        Raises:
            DriveGoneError: it does not answer any more; what failed last is not held against it.
            InputError: the image cannot be written.
        """
        self.refuse_gone()
        began = self._clock()
        try:
            data = self._drive.read(start, end - start).data
        except ReadError:
            data = b""
        except InputError as error:
            raise self._lost(error.says) from error
        took = self._clock() - began
        good = len(data) == end - start
        self.regions.answered(start, end - start, took, effort, good=good)
        if good:
            self._answered_at = start
            self._settle()
            self.image.keep(start, data)
            return True
        self._failed.append((start, end - start, effort))
        if len(self._failed) >= self._patience:
            self._probe()
            self._patience = min(self._patience * 2, _MOST_PATIENCE)
            self._settle()
        return False

    def _settle(self) -> None:
        """The drive answers: what failed before that did fail."""
        for start, length, effort in self._failed:
            self.image.give_up(start, length, effort)
        self._failed.clear()

    def _probe(self) -> None:
        """Ask for a sector elsewhere that was never asked for, and where that fails for one that
        came before. Raises DriveGoneError where even that fails.
        """
        unit = self.bytes_per_sector
        near = self._failed[-1][0]
        for start, _, effort in self.missing(0, self.size):
            if not effort and abs(start - near) > _FAR and self._answers(start, unit):
                self.image.keep(start, self._drive_bytes)
                return
            if not effort and abs(start - near) > _FAR:
                break
        if self._answered_at is None or self._answers(self._answered_at, unit):
            return
        raise self._lost("what could be read before fails, too.")

    def _answers(self, start: int, length: int) -> bool:
        try:
            self._drive_bytes = self._drive.read(start, length).data
        except InputError:
            return False
        return len(self._drive_bytes) == length

    def _lost(self, why: str) -> DriveGoneError:
        self._failed.clear()
        self._gone = DriveGoneError(
            f"{self.path} does not answer any more: {why}",
            "Connect it again, then give the same command: it goes on where it was.",
        )
        return self._gone

    def refuse_gone(self) -> None:
        """Raise DriveGoneError where the drive is gone; readers of files take that for damage."""
        if self._gone is not None:
            raise self._gone

    def forget_in_vain(self) -> None:
        """Before another walk: what is asked for in vain is noted anew."""
        self.wanted_in_vain = ByteRanges()

    def end(self) -> None:
        """Note what is known, and wait until it is on the medium. Raises InputError."""
        self._settle()
        self.image.flush()

    def _unreadable(self, start: int, end: int) -> ReadError:
        says = f"{end - start} bytes at offset {start} of {self.path} cannot be read."
        return ReadError(says, start, end - start)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """See `Source.data_ranges`."""
        return self._drive.data_ranges()

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """See `Source.read_into`."""
        data = self.read(offset, len(buffer)).data
        buffer[: len(data)] = data
        return len(data)

    def count_read(self, count: int) -> None:
        """See `Source.count_read`: what others read for us was not read of the drive."""

    def write(self, offset: int, data: bytes) -> None:
        """Always refused."""
        raise RefusedError(f"{len(data)} bytes at {offset}: a drive that is copied is only read.")

    def flush(self) -> None:
        """Nothing to wait for."""

    def close(self) -> None:
        """The drive is closed by whoever opened it."""
