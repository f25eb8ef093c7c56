"""The image that a drive is copied into: sparse, with its reading record beside it.

The order of writes is what makes a copy that was cut off safe to go on with. Bytes go into the
image and a row about them, with their sum, into the record; now and then the image is flushed, and
only when that succeeded a row says so. A system takes bytes that it cannot put on a full or pulled
medium, and says so once, at the next flush; from then on its own memory of them is worth nothing.
So rows behind the last successful flush vouch for nothing: when a copy is gone on with, what they
name is read again from the medium, and counts where its sum agrees. The record may know less than
the image holds, never more, and what was never read is not taken for zeros. Where zeros were read
the image keeps a hole.
"""

import contextlib
import errno
import os
import stat
import time
import zlib
from bisect import bisect_left, bisect_right
from collections.abc import Iterator
from functools import lru_cache
from pathlib import Path
from typing import Any

import msgspec

from mending.model import InputError, RefusedError, decode_json, encode_json
from mending.source.output import make_file_durably, make_folder, write_durably
from mending.source.plain_file import open_plain
from mending.source.portable import (
    AS_IT_IS,
    HAS_DEVICES,
    NO_LINK,
    flush_folder,
    forget_cached,
    lock_handle,
    read_at,
    refuse_without,
)

# A set of bytes as ranges that neither touch nor overlap, in order.


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


# Sums of what was read of a drive, joined as the pieces grow together.
#
# The sum is CRC-32 as in IEEE 802.3 (`zlib.crc32`). Of two pieces that touch, the sum of both is
# told without their bytes: appending n zero bytes to a message multiplies its remainder by x^(8n)
# modulo the polynomial, and the rest is an exclusive or (Warren, Hacker's Delight, 2nd edition,
# chapter 14).


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


# The reading record beside an image: which bytes of the drive are safe in it and their sums, which
# failed and how hard they were tried. Format: `docs/formats.md`.
#
# Lines of JSON that are only ever added, so that a kill loses none that was written. Lines may be
# on the medium whose bytes of the image are not: after a power cut, or where the medium was full or
# pulled and the system had taken the bytes already. A line `flushed` says that everything before it
# is on the medium. What stands behind the last one is *unsure*: it counts once the image was read
# again from the medium and the sums agree, and as never read before.
#
# A record may come from elsewhere, so its size, its lines and their nesting have bounds, and it is
# read in time that grows with its lines: not line by line into a set of ranges, but all at once,
# from the last line to the first, each place taking the newest line that speaks of it (`_painted`).


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


_ZEROS = bytes(1 << 20)
_FLUSH_BYTES, _FLUSH_SECONDS = 1 << 30, 20.0
"""How much is written, or how long, before it is made sure that it is on the medium."""
_BEGIN_BYTES = 16 << 20
_LARGE_BYTES = 256 << 10
"""What is larger is summed while it is written."""
_CHECKED_BYTES = 1 << 20
_GROWING_IMAGE_MOST_ROWS = 1_000_000
"""After so many rows the record is written anew, with fewer."""
_MODE = 0o600
_LINES = os.O_WRONLY | os.O_APPEND | NO_LINK | AS_IT_IS


class GrowingImage:
    """An image and its record, open for one process alone.

    Attributes:
        record: what is in the image so far.
    """

    def __init__(self, path: str, record: ReadingRecord, image: int, lines: int) -> None:
        self.path, self.record = path, record
        self._image, self._lines = image, lines
        self._since_flush, self._flushed_at = 0, time.monotonic()
        self._waits, self._waiting = 0, (1 << 62, 0)
        self._rows = 0
        from concurrent.futures import (  # noqa: PLC0415 - lazy: only a copy needs it
            ThreadPoolExecutor,
        )

        self._worker = ThreadPoolExecutor(1)

    def read(self, offset: int, length: int) -> bytes:
        """Bytes that are safe."""
        return read_at(self._image, length, offset)

    def keep(self, offset: int, data: bytes) -> None:
        """Take bytes in, and say so with their sum; zeros stay holes.

        Raises:
            InputError: the image cannot be written.
        """
        large = len(data) >= _LARGE_BYTES
        summing = self._worker.submit(zlib.crc32, data) if large else None
        try:
            if not _is_zeros(data) or self._holds_data(offset, len(data)):
                done = 0
                view = memoryview(data)
                while done < len(data):
                    done += os.pwrite(self._image, view[done:], offset + done)
        except OSError as error:
            raise self._not_written(error) from error
        total = zlib.crc32(data) if summing is None else summing.result()
        self._say(["safe", offset, len(data), total])
        self._since_flush += len(data)
        self._begin_writing(offset, len(data))
        late = time.monotonic() - self._flushed_at >= _FLUSH_SECONDS
        if late or self._since_flush >= _FLUSH_BYTES:
            self.flush()

    def _holds_data(self, offset: int, length: int) -> bool:
        """Whether a range is more than a hole: what was there before may have been lost."""
        try:
            return os.lseek(self._image, offset, os.SEEK_DATA) < offset + length
        except OSError as error:
            if error.errno == errno.ENXIO:  # a hole up to the end
                return False
            raise

    def _begin_writing(self, offset: int, length: int) -> None:
        """Let the system begin to write while the drive is read on (posix_fadvise(2): letting go of
        pages starts that), so that flushing has little to wait for.
        """
        first, last = self._waiting
        self._waiting = min(first, offset), max(last, offset + length)
        self._waits += length
        if self._waits >= _BEGIN_BYTES:
            start, end = self._waiting
            forget_cached(self._image, start, end - start)
            self._waits, self._waiting = 0, (1 << 62, 0)

    def keep_hole(self, offset: int, length: int) -> None:
        """Take in what is known to be zeros without having been read."""
        self._say(["safe", offset, length])

    def give_up(self, offset: int, length: int, effort: int) -> None:
        """Note that some bytes failed."""
        self._say(["failed", offset, length, effort])

    def differing(self) -> Iterator[tuple[int, int, bool]]:
        """Read everything again that has a sum: each piece's first byte, the one behind its last,
        and whether it differs from what was read of the drive. A piece that cannot be read does.
        """
        for start, end, total in list(self.record.sums):
            yield start, end, not self._holds(start, end, total)

    def _holds(self, start: int, end: int, total: int) -> bool:
        """Whether the image can be read there, and has the bytes with this sum."""
        found, at = 0, start
        while at < end:
            try:
                data = self.read(at, min(end - at, _CHECKED_BYTES))
            except OSError:
                data = b""
            if not data:
                return False
            found, at = zlib.crc32(data, found), at + len(data)
        return found == total

    def settle_unsure(self) -> None:
        """Read again, from the medium, what no flush vouches for, and keep what is as it was read.

        Raises:
            InputError: the image cannot be flushed.
        """
        unsure, self.record.unsure = self.record.unsure, []
        if not unsure:
            return
        self._forget()
        for start, end, total in unsure:
            if self._holds(start, end, total):
                self._say(["safe", start, end - start, total])
        self.flush()

    def _forget(self) -> None:
        """Let the system forget what it remembers of the image, so that reads come from the
        medium. What it could not write is gone from its memory once flushing failed.
        """
        try:
            os.fsync(self._image)
        except OSError:  # it said so once, and knows nothing of those bytes any more
            with contextlib.suppress(OSError):
                os.fsync(self._image)
        forget_cached(self._image)

    def lose(self, offset: int, length: int) -> None:
        """Note that some bytes are not safe after all."""
        self._say(["lost", offset, length])

    def flush(self) -> None:
        """Wait until all that is said to be safe is on the medium.

        Raises:
            InputError
        """
        try:
            os.fdatasync(self._image)
            self._write(["flushed"])
            os.fdatasync(self._lines)
        except OSError as error:
            raise self._not_written(error) from error
        self._since_flush, self._flushed_at = 0, time.monotonic()
        if self._rows > _GROWING_IMAGE_MOST_ROWS:
            self.write_anew()

    def _not_written(self, error: OSError) -> InputError:
        return InputError(
            f"{self.path} cannot be written: {error.strerror}.",
            "Make room or plug it in again, then give the same command again: it goes on where it"
            " was, and reads again from the image what may not have reached it.",
        )

    def _say(self, row: list[object]) -> None:
        self._write(row)
        self.record.apply(row)

    def _write(self, row: list[object]) -> None:
        line = memoryview(encode_json(row) + b"\n")
        try:
            while line:
                line = line[os.write(self._lines, line) :]
        except OSError as error:
            raise self._not_written(error) from error
        self._rows += 1

    def settle(self) -> None:
        """Flush, and say in few lines what all the lines said.

        Raises:
            InputError
        """
        self.flush()
        self.write_anew()

    def begin_line(self) -> None:
        """Begin a new line: a power cut may have left a torn one."""
        try:
            os.write(self._lines, b"\n")
        except OSError as error:
            raise self._not_written(error) from error

    def write_anew(self) -> None:
        """Say in few lines, in a new file, what is known. Raises InputError."""
        rows = (self.record.header, *self.record.rows(), ["flushed"])
        lines = [encode_json(row) for row in rows]
        place = record_path(self.path)
        write_durably(place, b"\n".join(lines) + b"\n")
        try:
            handle = os.open(place, _LINES)
        except OSError as error:
            raise self._not_written(error) from error
        os.close(self._lines)
        self._lines, self._rows = handle, 0

    def close(self) -> None:
        """Let go of it; closing twice is fine."""
        self._worker.shutdown()
        for handle in (self._image, self._lines):
            with contextlib.suppress(OSError):
                os.close(handle)


def open_image(path: str, header: ReadingHeader) -> GrowingImage:
    """A new image, or one that a copy of the same drive was begun into.

    Raises:
        RefusedError: another file, one of another drive, or another copy is under way.
        InputError: it cannot be made.
    """
    refuse_without(HAS_DEVICES, "Copying a drive")
    there = _is_there(path)
    record = load_record(path)
    if record is None and there:
        raise RefusedError(
            f"{path} is there already and no copy that was begun.", "Choose another name."
        )
    if record is not None and _told(record.header) != _told(header):
        raise RefusedError(
            f"{path} was begun from another drive ({record.header.drive}).", "Choose another name."
        )
    if record is None:
        make_folder(Path(path).absolute().parent)
        begin_record(path, header)
    if record is None or not there:  # an image that is gone took what was safe with it
        record = ReadingRecord(header)
    try:
        image = os.open(path, os.O_RDWR | os.O_CREAT | AS_IT_IS | NO_LINK, _MODE)
        lock_handle(image)
        os.ftruncate(image, header.bytes)
        lines = os.open(record_path(path), _LINES)
        flush_folder(Path(path).absolute().parent)
    except BlockingIOError as error:
        raise RefusedError(f"Another copy into {path} is under way.") from error
    except OSError as error:
        raise InputError(f"{path} cannot be made: {error.strerror}.") from error
    growing = GrowingImage(path, record, image, lines)
    if there:
        growing.begin_line()
    else:
        growing.write_anew()
    growing.settle_unsure()
    return growing


def _is_there(path: str) -> bool:
    """Whether there is an image. Raises RefusedError where something else is."""
    try:
        mode = os.lstat(path).st_mode
    except FileNotFoundError:
        return False
    except (OSError, ValueError) as error:
        raise InputError(f"{path!r} cannot be used as an image.") from error
    if not stat.S_ISREG(mode):
        raise RefusedError(f"{path} is there already and is no image.", "Choose another name.")
    return True


def _is_zeros(data: bytes) -> bool:
    return data[:1] == b"\0" == data[-1:] and data == _ZEROS[: len(data)]


def _told(header: ReadingHeader) -> tuple[object, ...]:
    return header.bytes, header.sector, header.serial
