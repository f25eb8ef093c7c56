"""What the drive has shown so far, by regions: how often it answered, and how long it took.

A piece near others that failed is likely to fail, and one near slow ones to be slow; a drive has so
many seconds left, and no more. Both go into the score by which the next piece is chosen.
"""

import math

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
