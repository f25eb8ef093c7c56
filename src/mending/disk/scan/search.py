"""The search for volumes that no table lists: over the whole disk, at nearly the speed of reading
it.

Each block is looked at as a table of sectors. A few columns of it (the bytes where signatures
stand) tell in one step for thousands of sectors which ones are worth a closer look; only those are
read with the usual readers.
"""

import threading
from collections import deque
from collections.abc import Iterable, Iterator, Mapping, Sequence
from types import ModuleType
from typing import TYPE_CHECKING

import msgspec

from mending.disk.layout import ALIGNED, Disk, survey, usable_range
from mending.disk.scan.candidates import Candidate, begins_locked, judge_locked, judge_sector
from mending.model import ByteOffset, InputError, Progress, ReadError, load_numpy, silent
from mending.source import Source

# Volumes told from leftovers: what overlaps something surer is not believed.


_LEAST = 0.4


def choose(found: Iterable[Candidate]) -> list[Candidate]:
    """The surest volumes that do not overlap each other, in the order of the disk."""
    best: dict[tuple[int, str], Candidate] = {}
    for candidate in found:
        key = (candidate.offset, candidate.filesystem)
        if candidate.confidence >= _LEAST and (
            key not in best or best[key].confidence < candidate.confidence
        ):
            best[key] = candidate
    kept: list[Candidate] = []
    for candidate in sorted(
        best.values(), key=lambda candidate: (-candidate.confidence, candidate.offset)
    ):
        if not any(overlap(candidate, other) for other in kept):
            kept.append(candidate)
    return sorted(kept, key=lambda candidate: candidate.offset)


def reaching(
    found: Sequence[Candidate], listed: Mapping[ByteOffset, int], end: int
) -> list[Candidate]:
    """The same volumes, those that tell no length as long as they can be: as their entry says, else
    up to the next volume. One that is too long loses nothing, one that is too short does not mount.

    Args:
        listed: bytes of each volume of the table, by its first byte on the disk.
        end: the first byte behind what volumes may take.
    """
    starts = sorted({*listed, *(candidate.offset for candidate in found), end})
    made = []
    for candidate in found:
        if candidate.open_ended:
            behind = next((start for start in starts if start > candidate.offset), end)
            length = listed.get(candidate.offset, behind - candidate.offset)
            candidate = msgspec.structs.replace(candidate, bytes=max(length, candidate.bytes))
        made.append(candidate)
    return made


def overlap(candidate: Candidate, other: Candidate) -> bool:
    """Whether two volumes share a byte."""
    return (
        candidate.offset < other.offset + other.bytes
        and other.offset < candidate.offset + candidate.bytes
    )


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


# A disk as stretches from its first sector to its last: tables, volumes, what no table lists, and
# what is free.


class Stretch(msgspec.Struct, frozen=True, kw_only=True):
    """One stretch. `start` and `sectors` are in sectors of the disk.

    Attributes:
        kind: `table volume unlisted gap`. Volumes may share sectors where a table is wrong.
        number: of a listed volume, else None.
    """

    start: int
    sectors: int
    kind: str
    number: int | None = None
    filesystem: str = ""
    label: str = ""


class DiskMap(msgspec.Struct, frozen=True, kw_only=True):
    """Where everything lies. `sector` is bytes per sector; stretches are in the order of the
    disk.
    """

    sector: int
    sectors: int
    stretches: tuple[Stretch, ...]


def disk_map(disk: Disk, found: Iterable[Candidate] = ()) -> DiskMap:
    """The map of a disk.

    Args:
        found: volumes by a search; those that a table lists are drawn as listed.
    """
    size = disk.source.bytes_per_sector
    listed = [volume for volume in disk.volumes if not volume.extended]
    known = {volume.start for volume in listed}
    stretches = [
        Stretch(
            start=volume.start,
            sectors=volume.sectors,
            kind="volume",
            number=volume.number,
            filesystem=volume.filesystem,
            label=volume.label,
        )
        for volume in listed
    ]
    lost = [candidate for candidate in found if candidate.offset // size not in known]
    stretches += [
        Stretch(
            start=candidate.offset // size,
            sectors=-(-candidate.bytes // size),
            kind="unlisted",
            filesystem=candidate.filesystem,
            label=candidate.label,
        )
        for candidate in lost
    ]
    if not any(volume.start == 0 for volume in listed):
        stretches += _tables(disk)
    return _with_gaps(size, disk.sectors, stretches)


def lost_between(before: DiskMap, after: DiskMap) -> DiskMap:
    """The earlier map with the volumes that only the later one lists drawn as unlisted."""
    known = {stretch.start for stretch in before.stretches if stretch.kind == "volume"}
    later = [
        stretch
        for stretch in after.stretches
        if stretch.kind == "volume" and stretch.start not in known
    ]
    lost = [msgspec.structs.replace(stretch, kind="unlisted", number=None) for stretch in later]
    kept = [stretch for stretch in before.stretches if stretch.kind != "gap"]
    return _with_gaps(before.sector, before.sectors, [*kept, *lost])


def _tables(disk: Disk) -> list[Stretch]:
    first, end = usable_range(disk)
    parts = [(0, int(first)), (int(end), disk.sectors - end)]
    return [
        Stretch(start=start, sectors=count, kind="table")
        for start, count in parts
        if count > 0 and start >= 0
    ]


def _with_gaps(size: int, sectors: int, taken: list[Stretch]) -> DiskMap:
    """The map of some stretches and of what lies between them; alignment leaves less than a MiB,
    which is not shown.
    """
    ordered = sorted(taken, key=lambda stretch: (stretch.start, -stretch.sectors))
    free, at = [], 0
    for stretch in [*ordered, Stretch(start=sectors, sectors=0, kind="table")]:
        if stretch.start - at > ALIGNED // size:
            free.append(Stretch(start=at, sectors=stretch.start - at, kind="gap"))
        at = max(at, stretch.start + stretch.sectors)
    everything = sorted([*ordered, *free], key=lambda stretch: (stretch.start, -stretch.sectors))
    return DiskMap(sector=size, sectors=sectors, stretches=tuple(everything))


# The document of a search, as `docs/json.md` describes it.


class FoundResult(msgspec.Struct, frozen=True, kw_only=True):
    """One volume.

    Attributes:
        start: in sectors of the disk, or of the volume that it lies in.
        open_ended: it tells no length; where no table does either, `bytes` is the most it can be.
        listed: the number in the table, or None where no table lists it.
        inside: where the locked volume starts in whose plain bytes it was found, in sectors.
    """

    start: int
    bytes: int
    filesystem: str
    label: str
    confidence: float = msgspec.field(name="sureness")
    listed: int | None
    because: tuple[str, ...]
    open_ended: bool = False
    inside: int | None = None


class SearchResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="search/1"):
    """What lies on the disk, listed or not. `map` is None for a file that is no disk."""

    path: str
    bytes: int
    sector: int
    found: tuple[FoundResult, ...]
    map: DiskMap | None


def found_results(
    found: Iterable[Candidate], bytes_per_sector: int, listed: Mapping[ByteOffset, int]
) -> tuple[FoundResult, ...]:
    """The rows of volumes. Args: listed: numbers of those in the table, by their first byte."""
    return tuple(
        FoundResult(
            start=candidate.offset // bytes_per_sector,
            bytes=candidate.bytes,
            filesystem=candidate.filesystem,
            label=candidate.label,
            confidence=candidate.confidence,
            listed=listed.get(candidate.offset),
            because=candidate.because,
            open_ended=candidate.open_ended,
        )
        for candidate in found
    )


def search_result(source: Source, progress: Progress = silent) -> SearchResult:
    """Search a disk and compare with its table."""
    try:
        disk: Disk | None = survey(source)
    except InputError:
        disk = None  # a file that is no disk may hold volumes all the same
    volumes = disk.volumes if disk is not None else ()
    listed = {volume.offset: volume.number for volume in volumes}
    lengths = {volume.offset: volume.bytes for volume in volumes}
    seen = reaching(search(source, progress), lengths, source.size)
    return SearchResult(
        path=source.path,
        bytes=source.size,
        sector=source.bytes_per_sector,
        found=found_results(seen, source.bytes_per_sector, listed),
        map=disk_map(disk, seen) if disk is not None else None,
    )
