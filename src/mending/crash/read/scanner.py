"""Lines of a text log that may tell something, out of files of any size: all marks are looked for
in one pass.
"""

from collections.abc import Callable, Iterator, Sequence
from typing import BinaryIO, NamedTuple

from ahocorasick_rs import BytesAhoCorasick, Implementation

_PIECE = 256 * 1024
_FOLLOWING = 200
"""Lines behind a beginning that are read one by one; a crash has under a hundred."""

Reread = Callable[[int, int], bytes]
"""The bytes from one offset of the log up to another, read again."""


class NearbyLine(NamedTuple):
    """A line that counts.

    Attributes:
        before: the line in front of it, where it is at hand.
        begins: it, or a line shortly before it, may begin a crash.
        marked: it holds a mark. Neither: it is the first or the last line of the log.
    """

    number: int
    line: bytes
    before: bytes
    begins: bool
    marked: bool


class Scanner:
    """Looks for two sets of marks: those that begin a crash, and others.

    Args:
        beginnings: bytes of which a line that begins a crash holds one.
        marks: bytes of which a line that tells something else holds one.
    """

    def __init__(self, beginnings: Sequence[bytes], marks: Sequence[bytes]) -> None:
        self._beginnings = len(beginnings)
        self._machine = BytesAhoCorasick([*beginnings, *marks], implementation=Implementation.DFA)

    def near_lines(self, stream: BinaryIO, reread: Reread | None) -> Iterator[NearbyLine]:
        """The lines that count, in order. A line longer than a piece is cut.

        Args:
            stream: the log from its beginning.
            reread: where it can be read again, lines of silent stretches are counted only when
                something follows.
        """
        number, left, rest, at, counted = 0, 0, b"", 0, 0
        tail = b""
        while piece := stream.read(_PIECE):
            whole, rest = _cut(rest + piece)
            start, at = at, at + len(whole)
            if not start and whole:
                yield NearbyLine(1, whole.split(b"\n", 1)[0], b"", False, False)
            hits = [
                (place, which < self._beginnings)
                for which, place, _ in self._machine.find_matches_as_indexes(whole)
            ]
            if hits or left or reread is None:
                number += _lines(reread, counted, start) if reread else 0
                number, left, found = _near(whole, hits, number, left, tail)
                yield from found
                counted = at
            tail = whole[-4096:] or tail
        if rest:
            number += _lines(reread, counted, at) if reread else 0
            hits = [
                (place, which < self._beginnings)
                for which, place, _ in self._machine.find_matches_as_indexes(rest)
            ]
            yield from _near(rest, hits, number, left, tail)[2]
        last = rest or tail.rstrip(b"\n").rpartition(b"\n")[2]
        if last:
            yield NearbyLine(0, last, b"", False, False)


def _cut(data: bytes) -> tuple[bytes, bytes]:
    """Whole lines, and the beginning of the next one."""
    end = data.rfind(b"\n") + 1
    return (data[:end], data[end:]) if end or len(data) < _PIECE else (data, b"")


def _near(
    whole: bytes, hits: list[tuple[int, bool]], number: int, left: int, tail: bytes
) -> tuple[int, int, list[NearbyLine]]:
    """Line ends up to behind the piece, lines still due, and the lines with hits and those behind a
    beginning.

    Args:
        number: line ends in front of the piece. left: lines still due behind a beginning.
    """
    found: list[NearbyLine] = []
    at, place = 0, 0
    while at < len(whole):
        if not left:
            if place >= len(hits):
                break
            line_at = max(whole.rfind(b"\n", 0, hits[place][0]) + 1, at)
            number += whole.count(b"\n", at, line_at)
            at = line_at
        end = whole.find(b"\n", at)
        end = len(whole) if end < 0 else end
        marked = begins = False
        while place < len(hits) and hits[place][0] < end:
            marked, begins = True, begins or hits[place][1]
            place += 1
        left = _FOLLOWING if begins else left
        before = whole[max(at - 4096, 0) : max(at - 1, 0)] if at else tail.rstrip(b"\n")
        found.append(
            NearbyLine(number + 1, whole[at:end], before.rpartition(b"\n")[2], left > 0, marked)
        )
        left = max(left - 1, 0)
        number += end < len(whole)
        at = end + 1
    return number + whole.count(b"\n", at), left, found


def _lines(reread: Reread, start: int, end: int) -> int:
    return sum(reread(at, min(at + _PIECE, end)).count(b"\n") for at in range(start, end, _PIECE))
