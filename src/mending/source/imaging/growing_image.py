"""The image that a drive is copied into: sparse, with its reading record beside it."""

import contextlib
import fcntl
import os
import time
from pathlib import Path

import msgspec

from mending.model import InputError, RefusedError
from mending.source.durable_files import flush_folder, write_durably
from mending.source.imaging import reading_record
from mending.source.imaging.reading_record import ReadingHeader, ReadingRecord

_ZEROS = bytes(1 << 20)
_FLUSH_BYTES, _FLUSH_SECONDS = 1 << 30, 20.0
"""How much is written, or how long, before it is made sure that it is on the medium."""
_BEGIN_BYTES = 16 << 20
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

    def read(self, offset: int, length: int) -> bytes:
        """Bytes that are safe."""
        return os.pread(self._image, length, offset)

    def keep(self, offset: int, data: bytes) -> None:
        """Take bytes in, and say so; zeros stay holes.

        Raises:
            InputError: the image cannot be written.
        """
        try:
            if data[:1] != b"\0" or data[-1:] != b"\0" or data != _ZEROS[: len(data)]:
                done = 0
                view = memoryview(data)
                while done < len(data):
                    done += os.pwrite(self._image, view[done:], offset + done)
        except OSError as error:
            raise InputError(
                f"{self.path} cannot be written: {error.strerror}.",
                "Make room, then give the same command again: it goes on where it was.",
            ) from error
        self._say(["safe", offset, len(data)])
        self._since_flush += len(data)
        self._begin_writing(offset, len(data))
        late = time.monotonic() - self._flushed_at >= _FLUSH_SECONDS
        if late or self._since_flush >= _FLUSH_BYTES:
            self.flush()

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
            os.write(self._lines, msgspec.json.encode(row) + b"\n")
        except OSError as error:
            raise InputError(f"{self.path} cannot be written: {error.strerror}.") from error

    def settle(self) -> None:
        """Flush, and say in few lines what all the lines said.

        Raises:
            InputError
        """
        self.flush()
        header = msgspec.structs.replace(self.record.header, session=reading_record.session())
        rows: list[object] = [["safe", start, end - start] for start, end in self.record.safe]
        for effort, tried in enumerate(self.record.failed):
            rows += [["failed", start, end - start, effort] for start, end in tried]
        lines = [msgspec.json.encode(row) for row in (header, *rows, ["flushed"])]
        write_durably(reading_record.record_path(self.path), b"\n".join(lines) + b"\n")

    def close(self) -> None:
        """Let go of it; closing twice is fine."""
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
    os.write(lines, b"\n" + msgspec.json.encode(["session", header.session]) + b"\n")
    return growing


def _told(header: ReadingHeader) -> tuple[object, ...]:
    return header.bytes, header.sector, header.serial
