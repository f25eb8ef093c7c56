"""A set of bytes as ranges that neither touch nor overlap, in order."""

from bisect import bisect_left, bisect_right
from collections.abc import Iterator


class ByteRanges:
    """Ranges from a first byte to the one behind the last. Adding what touches joins it."""

    def __init__(self) -> None:
        self._starts: list[int] = []
        self._ends: list[int] = []
        self.total = 0

    def add(self, start: int, end: int) -> None:
        """Put a range in."""
        if start >= end:
            return
        first = bisect_left(self._ends, start)
        last = bisect_right(self._starts, end)
        if first < last:
            start, end = min(start, self._starts[first]), max(end, self._ends[last - 1])
            self.total -= sum(self._ends[at] - self._starts[at] for at in range(first, last))
        self._starts[first:last], self._ends[first:last] = [start], [end]
        self.total += end - start

    def remove(self, start: int, end: int) -> None:
        """Take a range out."""
        first, last = bisect_right(self._ends, start), bisect_left(self._starts, end)
        if start >= end or first >= last:
            return
        left = [(self._starts[first], start), (end, self._ends[last - 1])]
        left = [(at, until) for at, until in left if at < until]
        self.total -= self.count_inside(start, end)
        self._starts[first:last] = [at for at, _ in left]
        self._ends[first:last] = [until for _, until in left]

    def covers(self, start: int, end: int) -> bool:
        """Whether all of a range is in it."""
        at = bisect_right(self._starts, start) - 1
        return start >= end or (at >= 0 and self._ends[at] >= end)

    def touches(self, start: int, end: int) -> bool:
        """Whether any byte of a range is in it."""
        at = bisect_right(self._ends, start)
        return start < end and at < len(self._starts) and self._starts[at] < end

    def inside(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        """The parts of a range that are in it."""
        at = bisect_right(self._ends, start)
        while at < len(self._starts) and self._starts[at] < end:
            yield max(start, self._starts[at]), min(end, self._ends[at])
            at += 1

    def gaps(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        """The parts of a range that are not in it."""
        for first, last in list(self.inside(start, end)):
            if start < first:
                yield start, first
            start = last
        if start < end:
            yield start, end

    def count_inside(self, start: int, end: int) -> int:
        """How many bytes of a range are in it."""
        return sum(last - first for first, last in self.inside(start, end))

    def __iter__(self) -> Iterator[tuple[int, int]]:
        return iter(zip(self._starts, self._ends, strict=True))
