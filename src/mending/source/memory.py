"""A source in memory, and one that fails on purpose."""

from collections.abc import Iterator

from mending.model import InputError, ReadError, Window
from mending.source.base import TargetKind
from mending.source.disk_target import DiskTarget


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
