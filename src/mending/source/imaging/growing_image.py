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
import fcntl
import os
import stat
import time
import zlib
from collections.abc import Iterator
from pathlib import Path

from mending.model import InputError, RefusedError, encode_json
from mending.source.durable_files import flush_folder, make_folder, write_durably
from mending.source.imaging import reading_record
from mending.source.imaging.reading_record import ReadingHeader, ReadingRecord

_ZEROS = bytes(1 << 20)
_FLUSH_BYTES, _FLUSH_SECONDS = 1 << 30, 20.0
"""How much is written, or how long, before it is made sure that it is on the medium."""
_BEGIN_BYTES = 16 << 20
_LARGE_BYTES = 256 << 10
"""What is larger is summed while it is written."""
_CHECKED_BYTES = 1 << 20
_MOST_ROWS = 1_000_000
"""After so many rows the record is written anew, with fewer."""
_MODE = 0o600
_LINES = os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC


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
        return os.pread(self._image, length, offset)

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
            os.posix_fadvise(self._image, start, end - start, os.POSIX_FADV_DONTNEED)
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
        os.posix_fadvise(self._image, 0, 0, os.POSIX_FADV_DONTNEED)

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
        if self._rows > _MOST_ROWS:
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
        place = reading_record.record_path(self.path)
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
    there = _is_there(path)
    record = reading_record.load_record(path)
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
        reading_record.begin_record(path, header)
    if record is None or not there:  # an image that is gone took what was safe with it
        record = ReadingRecord(header)
    try:
        image = os.open(path, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW, _MODE)
        fcntl.flock(image, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.ftruncate(image, header.bytes)
        lines = os.open(reading_record.record_path(path), _LINES)
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
