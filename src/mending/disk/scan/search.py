"""The search for volumes that no table lists: over the whole disk, at nearly the speed of reading
it.

Each block is looked at as a table of sectors. A few columns of it (the bytes where signatures
stand) tell in one step for thousands of sectors which ones are worth a closer look; only those are
read with the usual readers.
"""

import threading
from collections import deque
from collections.abc import Iterable, Iterator, Sequence
from types import ModuleType
from typing import TYPE_CHECKING

import msgspec

from mending.disk.scan.candidates import Candidate, judge_sector
from mending.disk.scan.locked_candidates import begins_locked, judge_locked
from mending.disk.scan.selection import choose
from mending.model import Progress, ReadError, load_numpy, silent
from mending.source import Source

if TYPE_CHECKING:
    from concurrent.futures import Future, ThreadPoolExecutor

    from numpy import uint16
    from numpy.typing import NDArray

BLOCK = 1 << 22
"""Smaller ones cost more in calls than they save in the processor's cache (measured: 256 KiB to 4
MiB).
"""
_AHEAD = 16
_WORKERS = 3
_SECTOR = 512
_MOST_HEADS = 200
"""Of locked volumes, and of what begins like one."""


class Rule(msgspec.Struct, frozen=True):
    """A sector is worth a look when a 16-bit word of it is this, and another one, masked, is one of
    those.

    The first test is made for every sector, the second only for those that pass it.
    """

    column: int
    word: int
    other: int
    mask: int
    values: tuple[int, ...]


def _text(at: int, mark: bytes) -> Rule:
    """Four characters at byte `at`, which is even."""
    first, second = (int.from_bytes(mark[start : start + 2], "little") for start in (0, 2))
    return Rule(at // 2, first, at // 2 + 1, 0xFFFF, (second,))


_RULES = (
    Rule(255, 0xAA55, 0, 0x00FF, (0xEB, 0xE9)),  # boot sectors: signature and jump
    Rule(28, 0xEF53, 29, 0xFFF8, (0,)),  # ext: magic and state
    _text(0, b"XFSB"),
    _text(0, b"LUKS"),
    _text(0, b"SKUL"),
    _text(0, b"LABE"),
    _text(0, b"H+\0\x04"),
    _text(0, b"HX\0\x05"),
    _text(32, b"NXSB"),
    _text(64, b"_BHR"),
    _text(508, b"ACE2"),
)
_COLUMNS = {
    rule.column: [same.word for same in _RULES if same.column == rule.column] for rule in _RULES
}


def search(
    source: Source,
    progress: Progress = silent,
    ranges: Sequence[tuple[int, int]] | None = None,
) -> list[Candidate]:
    """Every volume that was found and can be believed, in the order of the disk.

    Args:
        ranges: starts and lengths of what is looked at; None: all but the holes of a sparse file.

    Raises:
        InputError: the source went away.
    """
    from concurrent.futures import ThreadPoolExecutor  # noqa: PLC0415 - lazy: it is slow

    numpy, judge = load_numpy(), _Judge(source)
    looked_at = list(source.data_ranges()) if ranges is None else list(ranges)
    total, done = sum(length for _, length in looked_at), 0
    found: list[Candidate] = []
    with ThreadPoolExecutor(_WORKERS) as workers:
        for length, offsets in _looked_at(numpy, workers, source, looked_at):
            for offset in offsets:
                found += judge.at(offset)
            done += length
            progress(done, total)
    return choose(found)


class _Judge:
    """Judges sectors that are worth a closer look. Heads of locked volumes cost much to read, and a
    disk can be full of what begins like one, so only so many are read.
    """

    def __init__(self, source: Source) -> None:
        self._source, self._heads_left = source, _MOST_HEADS

    def at(self, offset: int) -> list[Candidate]:
        """The volumes that a sector may belong to; none where it cannot be read."""
        try:
            head = self._source.read(offset, _SECTOR)
            if len(head) < _SECTOR:
                return []
            if self._heads_left and begins_locked(head):
                self._heads_left -= 1
                return judge_locked(self._source, head) or judge_sector(self._source, head)
            return judge_sector(self._source, head)
        except ReadError:
            return []


def _looked_at(
    numpy: ModuleType,
    workers: "ThreadPoolExecutor",
    source: Source,
    ranges: Iterable[tuple[int, int]],
) -> Iterator[tuple[int, list[int]]]:
    """Length and offsets worth a closer look of every block, in order; some blocks are always on
    their way.
    """
    waiting: deque[tuple[int, Future[list[int]]]] = deque()
    for start, whole in ranges:
        for at in range(0, whole, BLOCK):
            length = min(BLOCK, whole - at)
            waiting.append((length, workers.submit(_look, numpy, source, start + at, length)))
            if len(waiting) > _AHEAD:
                length, future = waiting.popleft()
                yield length, future.result()
    for length, future in waiting:
        yield length, future.result()


def _look(numpy: ModuleType, source: Source, offset: int, length: int) -> list[int]:
    """Offsets worth a closer look in one block; none in a block that cannot be read."""
    buffer = _own_buffer()[:length]
    try:
        count = source.read_into(offset, buffer)
    except ReadError:
        return []
    return _worth_a_look(numpy, offset, buffer[:count])


def _own_buffer() -> memoryview:
    """One buffer for each worker, made once."""
    if not hasattr(_local, "buffer"):
        _local.buffer = memoryview(bytearray(BLOCK))
    buffer: memoryview = _local.buffer
    return buffer


_local = threading.local()


def _worth_a_look(numpy: ModuleType, start: int, buffer: memoryview) -> list[int]:
    """Offsets of sectors of a block that may belong to the start of a volume or to the copy of
    one.
    """
    lead = -start % _SECTOR
    count = (len(buffer) - lead) // _SECTOR
    if count < 1:
        return []
    words = numpy.frombuffer(buffer, "<u2", count * _SECTOR // 2, lead).reshape(count, _SECTOR // 2)
    wanted = numpy.zeros(count, bool)
    for column, values in _COLUMNS.items():
        packed = (
            words[:, column].copy() if len(values) > 1 else words[:, column]
        )  # once through memory is enough
        for value in values:
            wanted |= packed == value
    hits = [int(row) for row in numpy.flatnonzero(wanted)]
    return [
        start + lead + row * _SECTOR
        for row in hits
        if any(_holds(rule, words[row]) for rule in _RULES)
    ]


def _holds(rule: Rule, words: "NDArray[uint16]") -> bool:
    return (
        int(words[rule.column]) == rule.word and int(words[rule.other]) & rule.mask in rule.values
    )
