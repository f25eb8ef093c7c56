"""Sums of what was read of a drive, joined as the pieces grow together.

The sum is CRC-32 as in IEEE 802.3 (`zlib.crc32`). Of two pieces that touch, the sum of both is told
without their bytes: appending n zero bytes to a message multiplies its remainder by x^(8n) modulo
the polynomial, and the rest is an exclusive or (Warren, Hacker's Delight, 2nd edition, chapter 14).
"""

from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from functools import lru_cache

CELL_BYTES = 4 << 20
"""Pieces are joined within cells of so many bytes: a sum that does not hold says where."""
_POLYNOMIAL = 0xEDB88320
_ONE, _X8 = 1 << 31, 1 << 23
"""1 and x^8; the lowest power stands in the highest bit."""


class PieceSums:
    """Pieces in order of place, each with its sum. No two overlap."""

    def __init__(self) -> None:
        self._starts: list[int] = []
        self._pieces: list[tuple[int, int]] = []

    def add(self, start: int, end: int, total: int) -> None:
        """Put a piece in; it takes the place of those that it overlaps."""
        self.forget(start, end)
        at = bisect_left(self._starts, start)
        if at and self._pieces[at - 1][0] == start and _one_cell(self._starts[at - 1], end):
            total = joined(self._pieces[at - 1][1], total, end - start)
            at, start = at - 1, self._starts[at - 1]
            self._drop(at)
        if at < len(self._starts) and self._starts[at] == end:
            last, behind = self._pieces[at]
            if _one_cell(start, last):
                end, total = last, joined(total, behind, last - end)
                self._drop(at)
        self._starts.insert(at, start)
        self._pieces.insert(at, (end, total))

    def forget(self, start: int, end: int) -> None:
        """Take out the pieces that a range overlaps."""
        at = max(0, bisect_right(self._starts, start) - 1)
        while at < len(self._starts) and self._starts[at] < end:
            if self._pieces[at][0] > start:
                self._drop(at)
            else:
                at += 1

    def _drop(self, at: int) -> None:
        del self._starts[at], self._pieces[at]

    def __iter__(self) -> Iterator[tuple[int, int, int]]:
        for start, (end, total) in zip(self._starts, self._pieces, strict=True):
            yield start, end, total


def joined(first: int, second: int, length: int) -> int:
    """The sum of two pieces from the sums of both.

    Args:
        length: bytes of the second.
    """
    return _times(_power(length), first) ^ second


@lru_cache(1024)
def _power(length: int) -> int:
    """x^(8 length) modulo the polynomial, by squaring; most pieces are of few lengths."""
    found, square = _ONE, _X8
    while length:
        if length & 1:
            found = _times(found, square)
        square = _times(square, square)
        length >>= 1
    return found


def _times(left: int, right: int) -> int:
    found = 0
    for bit in range(31, -1, -1):
        if left >> bit & 1:
            found ^= right
        right = right >> 1 ^ (_POLYNOMIAL if right & 1 else 0)
    return found


def _one_cell(start: int, end: int) -> bool:
    return start // CELL_BYTES == (end - 1) // CELL_BYTES
