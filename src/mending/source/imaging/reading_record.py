"""The reading record beside an image: which bytes of the drive are safe in it and their sums, which
failed and how hard they were tried. Format: `docs/formats.md`.

Lines of JSON that are only ever added, so that a kill loses none that was written. Lines may be on
the medium whose bytes of the image are not: after a power cut, or where the medium was full or
pulled and the system had taken the bytes already. A line `flushed` says that everything before it
is on the medium. What stands behind the last one is *unsure*: it counts once the image was read
again from the medium and the sums agree, and as never read before.

A record may come from elsewhere, so its size, its lines and their nesting have bounds, and it is
read in time that grows with its lines: not line by line into a set of ranges, but all at once, from
the last line to the first, each place taking the newest line that speaks of it (`_painted`).
"""

from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from mending.model import InputError, decode_json, encode_json
from mending.source.durable_files import make_file_durably
from mending.source.imaging.byte_ranges import ByteRanges
from mending.source.imaging.piece_sums import PieceSums
from mending.source.plain_file import open_plain

SUFFIX = ".reading"
_FLUSHED = ["flushed"]
_NUMBERS = {"safe": (2, 3), "lost": (2,), "failed": (3,)}
"""How many numbers stand in a line about bytes."""
_FARTHEST = 1 << 63
_MOVE_AWAY = "Move it and its image away, or name another image; then the copy begins anew."
MOST_EFFORT = 9
_RECORD_BYTES, _MOST_ROWS = 256 << 20, 4_000_000
"""A copy writes its record anew before it has half as many lines."""


class ReadingHeader(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="reading-record/1"
):
    """The first line: which drive it is, and its size in bytes."""

    drive: str
    bytes: int
    sector: int
    serial: str


class ReadingRecord:
    """What is known of every byte of a drive.

    Attributes:
        safe: bytes that are in the image.
        sums: of those that were read; what is known to be zeros without being read has none.
        failed: by effort from 0: bytes that were tried so hard in vain.
        unsure: start, end and sum of pieces that count once they were read again.
    """

    def __init__(self, header: ReadingHeader) -> None:
        self.header = header
        self.safe = ByteRanges()
        self.sums = PieceSums()
        self.failed = [ByteRanges() for _ in range(MOST_EFFORT + 1)]
        self.unsure: list[tuple[int, int, int]] = []

    def missing(self, start: int, end: int) -> Iterator[tuple[int, int, int]]:
        """The parts of a range that are not safe, each with how hard it should be tried next: 0
        where it never failed.
        """
        left = list(self.safe.gaps(start, end))
        for effort in range(MOST_EFFORT, -1, -1):
            tried, rest = self.failed[effort], list[tuple[int, int]]()
            for first, last in left:
                for at, until in tried.inside(first, last):
                    yield at, until, effort + 1
                rest += tried.gaps(first, last)
            left = rest
        for first, last in left:
            yield first, last, 0

    def apply(self, row: Any) -> bool:
        """Take a line in; false for one that is none of ours."""
        if not _is_row(row):
            return False
        numbers = row[1:]
        if row[0] == "safe" and len(numbers) in (2, 3):
            start, end = numbers[0], numbers[0] + numbers[1]
            self.safe.add(start, end)
            self.sums.forget(start, end)
            if len(numbers) == 3:
                self.sums.add(start, end, numbers[2])
        elif row[0] == "lost" and len(numbers) == 2:
            self.safe.remove(numbers[0], numbers[0] + numbers[1])
            self.sums.forget(numbers[0], numbers[0] + numbers[1])
        elif row[0] == "failed" and len(numbers) == 3 and numbers[2] <= MOST_EFFORT:
            self.failed[numbers[2]].add(numbers[0], numbers[0] + numbers[1])
        else:
            return False
        return True

    def rows(self) -> Iterator[list[object]]:
        """All of it in as few lines as there are."""
        summed = ByteRanges()
        for start, end, total in self.sums:
            summed.add(start, end)
            yield ["safe", start, end - start, total]
        for start, end in self.safe:
            for first, last in summed.gaps(start, end):
                yield ["safe", first, last - first]
        for effort, tried in enumerate(self.failed):
            for start, end in tried:
                yield ["failed", start, end - start, effort]


def record_path(image: str) -> Path:
    """Where the record of an image lies."""
    return Path(f"{image}{SUFFIX}")


def load_record(image: str) -> ReadingRecord | None:
    """The record of an image; None where there is none.

    Raises:
        InputError: there is one, and it cannot be used.
    """
    path = record_path(image)
    try:
        with open_plain(path, links=False) as file:
            data = file.read(_RECORD_BYTES + 1)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}.") from error
    if len(data) > _RECORD_BYTES or data.count(b"\n") > _MOST_ROWS:
        raise InputError(f"{path} is larger than any reading record.", _MOVE_AWAY)
    lines = data.split(b"\n")
    try:
        header = decode_json(lines[0], ReadingHeader)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise InputError(f"{path} is no reading record: {_short(error)}.", _MOVE_AWAY) from error
    rows = [row for row in map(_row, lines[1:-1]) if row is not None]
    flushed = max((at for at, row in enumerate(rows) if row == _FLUSHED), default=-1)
    sure = [row for row in rows[: flushed + 1] if _is_row(row)]
    tail = [row for row in rows[flushed + 1 :] if _is_row(row)]
    record = ReadingRecord(header)
    _painted(record, sure, header.bytes)
    _left_unsure(record, tail)
    return record


def _left_unsure(record: ReadingRecord, tail: list[list[Any]]) -> None:
    """What nobody vouches for: the newest pieces with a sum wait to be read again; what was lost or
    failed is taken as said.
    """
    later = ReadingRecord(record.header)
    _painted(later, tail, record.header.bytes)
    for row in tail:
        if row[0] != "failed" and len(row) >= 3:
            record.safe.remove(row[1], row[1] + row[2])
            record.sums.forget(row[1], row[1] + row[2])
    record.unsure = list(later.sums)
    for effort, tried in enumerate(later.failed):
        for start, end in tried:
            record.failed[effort].add(start, end)


def _painted(record: ReadingRecord, rows: list[list[Any]], size: int) -> None:
    """All rows taken in at once, as if one by one.

    The places where any row begins or ends cut the drive into cells. Rows are gone through from the
    last to the first, and each paints the cells of its own that are not painted yet; a list that
    leads from each cell to the next bare one makes that cheap (disjoint sets with halved paths:
    Tarjan and van Leeuwen, "Worst-case analysis of set union algorithms", 1984). So each cell is
    painted once, by the newest row that speaks of it. A sum is one of a whole piece: it stays where
    no newer row took any of its cells.
    """
    cuts = sorted({min(at, size) for row in rows for at in (row[1], row[1] + row[2])})
    number = {at: index for index, at in enumerate(cuts)}
    bare = list(range(len(cuts) + 1))
    kept: list[tuple[int, int, bool, int | None]] = []
    failed: list[list[tuple[int, int]]] = [[] for _ in range(MOST_EFFORT + 1)]
    for row in reversed(rows):
        start, end = min(row[1], size), min(row[1] + row[2], size)
        if row[0] == "failed":
            failed[row[3]].append((start, end))
            continue
        first, last, painted = number[start], number[end], 0
        cell = _bare_from(bare, first)
        while cell < last:
            kept.append((cuts[cell], cuts[cell + 1], row[0] == "safe", None))
            bare[cell], painted = cell + 1, painted + 1
            cell = _bare_from(bare, cell)
        if row[0] == "safe" and len(row) == 4 and painted == last - first and painted:
            kept.append((start, end, True, row[3]))
    for start, end, is_safe, total in sorted(kept, key=lambda piece: piece[:2]):
        if total is not None:
            record.sums.add(start, end, total)
        elif is_safe:
            record.safe.add(start, end)
    for effort, tried in enumerate(failed):
        for start, end in sorted(tried):
            record.failed[effort].add(start, end)


def _bare_from(bare: list[int], cell: int) -> int:
    """The first cell from here on that is not painted; paths are halved on the way."""
    while bare[cell] != cell:
        bare[cell] = bare[bare[cell]]
        cell = bare[cell]
    return cell


def _is_row(row: Any) -> bool:
    """Whether a line is one of ours about bytes."""
    if not isinstance(row, list) or not row or row[0] not in _NUMBERS:
        return False
    numbers = row[1:]
    right = len(numbers) in _NUMBERS[row[0]] and all(type(number) is int for number in numbers)
    return (
        right
        and all(0 <= number < _FARTHEST for number in numbers)
        and (row[0] != "failed" or numbers[2] <= MOST_EFFORT)
    )


def _row(line: bytes) -> Any:
    try:
        return msgspec.json.decode(line)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError):
        return None  # a line that a power cut left torn


def _short(error: Exception) -> str:
    return str(error)[:80]


def begin_record(image: str, header: ReadingHeader) -> None:
    """Make the file, whole or not at all.

    Raises:
        InputError
    """
    make_file_durably(record_path(image), encode_json(header) + b"\n")
