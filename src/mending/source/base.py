"""The one small interface behind which every disk looks alike."""

from collections.abc import Iterator
from enum import StrEnum
from typing import Protocol

from mending.model import Window


class TargetKind(StrEnum):
    """What a target is, as the file system of this machine sees it."""

    IMAGE = "image"
    DEVICE = "device"
    FOLDER = "folder"


class Source(Protocol):
    """Bytes with a size, a sector size and a counter.

    Attributes:
        path: how the person named it.
        kind: image or device.
        size: bytes.
        bytes_per_sector: 512 or 4096; the unit of every LBA on this source.
        bytes_read: how many bytes have been read so far.
        serial: serial number of the device; empty for images.
    """

    path: str
    kind: TargetKind
    size: int
    bytes_per_sector: int
    serial: str

    @property
    def bytes_read(self) -> int:
        """See above."""

    def read(self, offset: int, length: int) -> Window:
        """At most `length` bytes from `offset`; fewer at the end. Raises ReadError, InputError."""

    def count_read(self, count: int) -> None:
        """Add what was read on our behalf elsewhere to the counter."""

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """Start and length of everything but the holes of a sparse file. Raises InputError."""

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """Fill a buffer from `offset`; returns how many bytes came. Raises ReadError."""

    def write(self, offset: int, data: bytes) -> None:
        """Put `data` at `offset`, never past the end. Raises RefusedError when opened read-only, InputError."""

    def flush(self) -> None:
        """Return when everything written is on the medium. Raises InputError."""

    def close(self) -> None:
        """Let go of it; closing twice is fine."""
