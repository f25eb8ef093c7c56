"""The reading record beside an image: which bytes of the drive are safe in it and their sums, which
failed and how hard they were tried. Format: `docs/formats.md`.

Lines of JSON that are only ever added, so that a kill loses none that was written. After a power
cut, lines may be on the medium whose bytes of the image are not: a line `flushed` says that
everything before it is, and lines behind the last one count only while the machine has not been
started anew.
"""

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import msgspec

from mending.model import InputError, decode_json, encode_json
from mending.source.durable_files import append_durably
from mending.source.imaging.byte_ranges import ByteRanges
from mending.source.imaging.piece_sums import PieceSums
from mending.source.plain_file import open_plain

SUFFIX = ".reading"
MOST_EFFORT = 9
_RECORD_BYTES = 256 << 20
_BOOT = Path("/proc/sys/kernel/random/boot_id")


class ReadingHeader(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="reading-record/1"
):
    """The first line. `session` names the start of the machine that writes."""

    drive: str
    bytes: int
    sector: int
    serial: str
    session: str


class ReadingRecord:
    """What is known of every byte of a drive.

    Attributes:
        safe: bytes that are in the image.
        sums: of those that were read; what is known to be zeros without being read has none.
        failed: by effort from 0: bytes that were tried so hard in vain.
    """

    def __init__(self, header: ReadingHeader) -> None:
        self.header = header
        self.safe = ByteRanges()
        self.sums = PieceSums()
        self.failed = [ByteRanges() for _ in range(MOST_EFFORT + 1)]

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
        if not isinstance(row, list) or not row or not isinstance(row[0], str):
            return False
        numbers = row[1:]
        if not all(isinstance(number, int) and number >= 0 for number in numbers):
            return False
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


def session() -> str:
    """A name of this start of the machine; empty where it has none."""
    try:
        return _BOOT.read_text().strip()
    except OSError:
        return ""


def load_record(image: str, now: str | None = None) -> ReadingRecord | None:
    """The record of an image; None where there is none.

    Args:
        now: this start of the machine; None asks for it.

    Raises:
        InputError: there is one, and it cannot be used.
    """
    path = record_path(image)
    try:
        with open_plain(path, links=False) as file:
            data = file.read(_RECORD_BYTES)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}.") from error
    lines = data.split(b"\n")
    try:
        header = decode_json(lines[0], ReadingHeader)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(f"{path} is no reading record: {error}.") from error
    record = ReadingRecord(header)
    here = session() if now is None else now
    rows = [row for row in map(_row, lines[1:-1]) if row is not None]
    for row in _trusted(rows, header.session, here):
        record.apply(row)
    return record


def _row(line: bytes) -> Any:
    try:
        return json.loads(line)
    except ValueError:
        return None  # a line that a power cut left torn


def _trusted(rows: list[Any], writer: str, here: str) -> list[Any]:
    """The rows that count. A row `session` says that the copy was gone on with; in another start of
    the machine, what had not been flushed until then was read anew.
    """
    sure: list[Any] = []
    tail: list[Any] = []
    for row in rows:
        if row == ["flushed"]:
            sure += tail
            tail = []
        elif isinstance(row, list) and row[:1] == ["session"] and len(row) == 2:
            tail = tail if row[1] == writer else []
            writer = str(row[1])
        else:
            tail.append(row)
    return sure + tail if writer and writer == here else sure


def begin_record(image: str, header: ReadingHeader) -> None:
    """Make the file.

    Raises:
        InputError
    """
    append_durably(record_path(image), encode_json(header) + b"\n")
