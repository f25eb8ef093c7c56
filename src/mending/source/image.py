"""Disk images and block devices."""

import errno
import os
import stat
from collections.abc import Iterator
from pathlib import Path
from types import TracebackType
from typing import Self

from mending.model import InputError, MendingError, ReadError, RefusedError, Window
from mending.model.limits import WINDOW_BYTES
from mending.source import devices
from mending.source.archive import Bundle, is_bundle, note_read, refuse_missing
from mending.source.base import TargetKind
from mending.source.imaging import ByteRanges, load_record
from mending.source.portable import (
    AS_IT_IS,
    HAS_DEVICES,
    data_at,
    forget_cached,
    read_at,
    read_into,
    refuse_without,
)
from mending.source.targets import DiskTarget

_UNREADABLE = {errno.EIO, errno.ENODATA, errno.EREMOTEIO}


class FileSource(DiskTarget):
    """A regular file or a block device, read with positioned reads so that no file position is
    shared.

    Use `open_source` to make one.

    Attributes:
        never_read: bytes that a copy of a drive does not have yet; they are no zeros.
        not_gathered: bytes that a bundle does not hold; None for everything that is none.
    """

    def __init__(
        self, path: str, fd: int, kind: TargetKind, size: int, bytes_per_sector: int, serial: str
    ) -> None:
        self.path = path
        self.kind = kind
        self.size = size
        self.bytes_per_sector = bytes_per_sector
        self.bytes_read = 0
        self.serial = serial
        self.never_read: ByteRanges | None = None
        self.not_gathered: ByteRanges | None = None
        self._fd: int | None = fd

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        wanted = max(0, min(length, self.size - offset, WINDOW_BYTES))
        inside = (
            0 <= offset < self.size
        )  # a damaged number may be larger than the system can be asked for
        self._refuse_never_read(offset, wanted)
        try:
            data = read_at(self._open_fd(), wanted, offset) if inside else b""
        except OSError as error:
            if error.errno in _UNREADABLE:
                says = (
                    f"{wanted} bytes at offset {offset} of {self.path} cannot be read:"
                    f" {error.strerror}."
                )
                raise ReadError(
                    says,
                    offset,
                    wanted,
                    "Copy the drive to an image first, then work on the image.",
                ) from error
            raise _translated(self.path, error) from error
        self.bytes_read += len(data)
        return Window(data, offset)

    def _refuse_never_read(self, offset: int, length: int) -> None:
        note_read(self.path, offset, offset + length)
        if self.not_gathered is not None:
            refuse_missing(self.path, self.not_gathered, offset, offset + length)
        if self.never_read is None or not self.never_read.touches(offset, offset + length):
            return
        start, end = next(self.never_read.inside(offset, offset + length))
        raise ReadError(
            f"{end - start} bytes at offset {start} of {self.path} were never read from the drive.",
            start,
            end - start,
            "Go on with the copy, then try again.",
        )

    def count_read(self, count: int) -> None:
        """See `Source.count_read`."""
        self.bytes_read += count

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """Start and length of everything but the holes of a sparse file; the whole of a device.

        Raises:
            InputError
        """
        at = 0
        while at < self.size:
            try:
                start, end = data_at(self._open_fd(), at, self.size)
            except OSError as error:
                if error.errno == errno.ENXIO:
                    return  # nothing but a hole is left
                start, end = at, self.size  # a file system or device that knows no holes
            yield start, end - start
            at = end

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """Fill a buffer from `offset` without making a new one; returns how many bytes came. Raises
        ReadError.
        """
        self._refuse_never_read(offset, len(buffer))
        try:
            count = read_into(self._open_fd(), buffer, offset)
        except OSError as error:
            if error.errno in _UNREADABLE:
                says = (
                    f"{len(buffer)} bytes at offset {offset} of {self.path} cannot be read:"
                    f" {error.strerror}."
                )
                raise ReadError(says, offset, len(buffer)) from error
            raise _translated(self.path, error) from error
        self.bytes_read += count
        return count

    def write(self, offset: int, data: bytes) -> None:
        """See `Source.write`."""
        if offset < 0 or offset + len(data) > self.size:
            raise RefusedError(
                f"A write of {len(data)} bytes at offset {offset} would leave {self.path}."
            )
        done = 0
        try:
            while done < len(data):
                count = os.pwrite(self._open_fd(), data[done:], offset + done)
                if count == 0:
                    raise OSError(errno.EIO, "it takes no more bytes")
                done += count
        except OSError as error:
            raise _translated(self.path, error) from error

    def flush(self) -> None:
        """See `Source.flush`; also drops what this machine remembers, so that the next read comes
        from the medium.
        """
        try:
            os.fsync(self._open_fd())
            forget_cached(self._open_fd())
        except OSError as error:
            raise _translated(self.path, error) from error

    def close(self) -> None:
        """See `Source.close`."""
        if self._fd is not None:
            os.close(self._fd)
            self._fd = None

    def __enter__(self) -> Self:
        return self

    def __exit__(
        self,
        kind: type[BaseException] | None,
        error: BaseException | None,
        trace: TracebackType | None,
    ) -> None:
        self.close()

    def _open_fd(self) -> int:
        if self._fd is None:
            raise InputError(f"{self.path} was closed before this read.")
        return self._fd


def open_source(
    path: str, *, bytes_per_sector: int | None = None, for_writing: bool = False
) -> FileSource:
    """Open an image or a block device.

    Args:
        path: as the person typed it.
        bytes_per_sector: 512 or 4096 to override what the device says; images start at 512 until
            somebody knows better.
        for_writing: only a repair asks for this; refused for anything mounted or in use.

    Raises:
        InputError: not there, not allowed, empty, a folder, or no disk at all.
        RefusedError: mounted or in use and `for_writing`.
    """
    try:
        mode = Path(path).stat().st_mode
    except (OSError, ValueError) as error:
        raise _translated(path, error) from error
    if stat.S_ISDIR(mode):
        raise InputError(
            f"{path} is a folder, and this needs a disk image or a block device.",
            "Name the image file inside it.",
        )
    is_device = stat.S_ISBLK(mode)
    if stat.S_ISREG(mode) and is_bundle(Path(path)):
        return _opened_bundle(path, for_writing)
    if not is_device and not stat.S_ISREG(mode):
        raise InputError(f"{path} is neither a file nor a block device.")
    if for_writing:
        refuse_without(HAS_DEVICES, "Writing to a disk")
        devices.refuse_if_busy(path, is_device)
        _refuse_read_only(path)
    return _opened(path, is_device, bytes_per_sector, for_writing)


def _opened_bundle(path: str, for_writing: bool) -> FileSource:
    """What was gathered, as a disk that is only read."""
    if for_writing:
        raise RefusedError(f"{path} is a bundle, which is only read.", "Work on the disk itself.")
    bundle = Bundle(Path(path))
    try:
        index, fd = bundle.index, bundle.unpacked()
        source = FileSource(path, fd, TargetKind.IMAGE, index.bytes, index.sector, "")
        source.not_gathered = bundle.missing()
    finally:
        bundle.close()
    return source


def _refuse_read_only(path: str) -> None:
    if not os.access(path, os.W_OK):
        raise RefusedError(
            f"{path} may not be written by this account, or is read only.",
            "Run as administrator, or make it writable first.",
        )


def _opened(
    path: str, is_device: bool, bytes_per_sector: int | None, for_writing: bool
) -> FileSource:
    flags = (os.O_RDWR if for_writing else os.O_RDONLY) | AS_IT_IS
    if is_device and for_writing:
        flags |= (
            os.O_EXCL
        )  # the kernel answers EBUSY for a device that is mounted or held by a mapping
    try:
        fd = os.open(path, flags)
    except OSError as error:
        raise _translated(path, error) from error
    try:
        if is_device and for_writing and devices.is_read_only(fd):
            raise RefusedError(f"{path} is set to be read only.", "Make it writable first.")
        size = os.lseek(fd, 0, os.SEEK_END)
        if size == 0:
            raise InputError(f"{path} is empty.", "Was the image copied to its end?")
        sector = bytes_per_sector or (devices.device_sector_bytes(fd) if is_device else 512)
    except OSError as error:
        os.close(fd)
        raise _translated(path, error) from error
    except MendingError:
        os.close(fd)
        raise
    if for_writing:
        try:
            devices.lock(fd, path)
        except RefusedError:
            os.close(fd)
            raise
    kind = TargetKind.DEVICE if is_device else TargetKind.IMAGE
    serial = devices.device_serial(path, fd) if is_device else ""
    source = FileSource(path, fd, kind, size, sector, serial)
    if not is_device:
        source.never_read = _never_read(path, size)
    return source


def _never_read(path: str, size: int) -> ByteRanges | None:
    """What a copy that was begun does not have; None for every other image."""
    record = load_record(path)
    if record is None or record.safe.covers(0, size):
        return None
    missing = ByteRanges()
    for start, end in record.safe.gaps(0, size):
        missing.add(start, end)
    return missing


def _translated(path: str, error: OSError | ValueError) -> InputError | RefusedError:
    """The operating system's error in our words."""
    if isinstance(error, ValueError):
        return InputError(f"{path!r} is not a usable path.")
    if error.errno == errno.EROFS:
        return RefusedError(f"{path} is read only.", "Make it writable first.")
    if error.errno == errno.EBUSY:
        return RefusedError(f"{path} is in use.", "Unmount everything on it, then try again.")
    if error.errno in {errno.EACCES, errno.EPERM}:
        return InputError(
            f"{path} may not be opened by this account.",
            "Run as administrator, or ask for access to it.",
        )
    if error.errno == errno.ENOENT:
        return InputError(f"{path} does not exist.")
    return InputError(f"{path} cannot be used: {error.strerror or error}.")


# A source in memory, and one that fails on purpose.


class MemorySource(DiskTarget):
    """A disk that is a byte string. Used by tests and to try a repair before it touches
    anything.
    """

    def __init__(self, data: bytes, *, bytes_per_sector: int = 512, path: str = "memory") -> None:
        self.data = bytearray(data)
        self.path = path
        self.kind = TargetKind.IMAGE
        self.size = len(data)
        self.bytes_per_sector = bytes_per_sector
        self.bytes_read = 0
        self.serial = ""

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        data = bytes(self.data[offset : offset + length]) if offset >= 0 else b""
        self.bytes_read += len(data)
        return Window(data, offset)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """See `Source.data_ranges`: all of it."""
        yield 0, self.size

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """See `Source.read_into`."""
        data = self.read(offset, len(buffer)).data
        buffer[: len(data)] = data
        return len(data)

    def count_read(self, count: int) -> None:
        """See `Source.count_read`."""
        self.bytes_read += count

    def write(self, offset: int, data: bytes) -> None:
        """See `Source.write`."""
        if offset < 0 or offset + len(data) > self.size:
            raise InputError(
                f"A write of {len(data)} bytes at offset {offset} would leave {self.path}."
            )
        self.data[offset : offset + len(data)] = data

    def flush(self) -> None:
        """Nothing to wait for."""

    def close(self) -> None:
        """Nothing to let go of."""


class PowerCutError(Exception):
    """The plug was pulled: nothing after this reaches the medium. Not one of our errors, so that
    nothing catches it.
    """


class FaultyMemory(MemorySource):
    """A memory disk with bad sectors, a write that fails, or a power cut in the middle of a write.

    Args:
        bad: ranges (offset, length) that cannot be read.
        fail_write: number of the write (from 0) that reports an error and changes nothing.
        cut_after: bytes that still reach the medium before the power goes.
        flips: number of the write whose first byte arrives wrong, as a medium that lies would do
            it.
    """

    def __init__(
        self,
        data: bytes,
        *,
        bad: tuple[tuple[int, int], ...] = (),
        fail_write: int | None = None,
        cut_after: int | None = None,
        flips: int | None = None,
    ) -> None:
        super().__init__(data)
        self._bad = bad
        self._fail_write = fail_write
        self._left = cut_after
        self._flips = flips
        self._writes = 0

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        for start, count in self._bad:
            if offset < start + count and start < offset + length:
                raise ReadError(
                    f"{count} bytes at offset {start} of {self.path} cannot be read.", start, count
                )
        return super().read(offset, length)

    def write(self, offset: int, data: bytes) -> None:
        """See `Source.write`."""
        number, self._writes = self._writes, self._writes + 1
        if number == self._fail_write:
            raise InputError(f"{self.path} refused a write at offset {offset}.")
        if self._left is not None and len(data) > self._left:
            super().write(offset, data[: self._left])
            self._left = 0
            raise PowerCutError
        if self._left is not None:
            self._left -= len(data)
        super().write(offset, bytes([data[0] ^ 1]) + data[1:] if number == self._flips else data)
