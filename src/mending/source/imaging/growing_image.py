"""The image that a drive is copied into: sparse, with its reading record beside it.

The order of writes is what makes a copy that was cut off safe to go on with. Bytes go into the
image and a row about them, with their sum, into the record; now and then the image is flushed, and
only then a row says so. After a power cut the rows behind the last such row count for nothing, so
the record may know less than the image holds, never more, and what was never read is not taken for
zeros. Where zeros were read the image keeps a hole.
"""

import contextlib
import errno
import fcntl
import os
import time
import zlib
from collections.abc import Iterator
from pathlib import Path

import msgspec

from mending.model import InputError, RefusedError, encode_json
from mending.source.durable_files import flush_folder, write_durably
from mending.source.imaging import reading_record
from mending.source.imaging.reading_record import ReadingHeader, ReadingRecord

_ZEROS = bytes(1 << 20)
_FLUSH_BYTES, _FLUSH_SECONDS = 1 << 30, 20.0
"""How much is written, or how long, before it is made sure that it is on the medium."""
_BEGIN_BYTES = 16 << 20
_LARGE_BYTES = 256 << 10
"""What is larger is summed while it is written."""
_CHECKED_BYTES = 1 << 20
_MODE = 0o600


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
            raise InputError(
                f"{self.path} cannot be written: {error.strerror}.",
                "Make room, then give the same command again: it goes on where it was.",
            ) from error
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
            found, at = 0, start
            while at < end:
                try:
                    data = self.read(at, min(end - at, _CHECKED_BYTES))
                except OSError:
                    data = b""
                if not data:
                    break
                found, at = zlib.crc32(data, found), at + len(data)
            yield start, end, at < end or found != total

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
            raise InputError(f"{self.path} cannot be written: {error.strerror}.") from error
        self._since_flush, self._flushed_at = 0, time.monotonic()

    def _say(self, row: list[object]) -> None:
        self._write(row)
        self.record.apply(row)

    def _write(self, row: list[object]) -> None:
        try:
            os.write(self._lines, encode_json(row) + b"\n")
        except OSError as error:
            raise InputError(f"{self.path} cannot be written: {error.strerror}.") from error

    def settle(self) -> None:
        """Flush, and say in few lines what all the lines said.

        Raises:
            InputError
        """
        self.flush()
        header = msgspec.structs.replace(self.record.header, session=reading_record.session())
        rows = (header, *self.record.rows(), ["flushed"])
        lines = [encode_json(row) for row in rows]
        write_durably(reading_record.record_path(self.path), b"\n".join(lines) + b"\n")

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
    there = Path(path).exists()
    record = reading_record.load_record(path)
    if record is None and there:
        raise RefusedError(
            f"{path} is there already and no copy that was begun.", "Choose another name."
        )
    if record is not None and _told(record.header) != _told(header):
        raise RefusedError(
            f"{path} was begun from another drive ({record.header.drive}).", "Choose another name."
        )
    try:
        flags = os.O_RDWR | os.O_CREAT | os.O_CLOEXEC | os.O_NOFOLLOW
        image = os.open(path, flags, _MODE)
        fcntl.flock(image, fcntl.LOCK_EX | fcntl.LOCK_NB)
        os.ftruncate(image, header.bytes)
        if record is None:
            reading_record.begin_record(path, header)
            record = ReadingRecord(header)
            flush_folder(Path(path).absolute().parent)
        lines = os.open(
            reading_record.record_path(path),
            os.O_WRONLY | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC,
        )
    except BlockingIOError as error:
        raise RefusedError(f"Another copy into {path} is under way.") from error
    except OSError as error:
        raise InputError(f"{path} cannot be made: {error.strerror}.") from error
    growing = GrowingImage(path, record, image, lines)
    os.write(lines, b"\n" + encode_json(["session", header.session]) + b"\n")
    return growing


def _is_zeros(data: bytes) -> bool:
    return data[:1] == b"\0" == data[-1:] and data == _ZEROS[: len(data)]


def _told(header: ReadingHeader) -> tuple[object, ...]:
    return header.bytes, header.sector, header.serial
