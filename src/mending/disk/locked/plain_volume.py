"""The plain bytes of an unlocked volume, whatever locked it."""

from abc import ABC, abstractmethod
from collections.abc import Iterator
from copy import copy
from typing import Self

from mending.source import Source


class PlainVolume(ABC):
    """A view of one volume, read in whole sectors.

    Attributes:
        bytes: how many plain ones there are.
        identifier: of the volume that holds them.
    """

    def __init__(self, source: Source, start: int, size: int, sector: int, identifier: str) -> None:
        self._source, self._start, self._sector = source, start, sector
        self.bytes = size // sector * sector
        self.identifier = identifier

    def read(self, offset: int, length: int) -> bytes:
        """Plain bytes; fewer at the end.

        Raises:
            ReadError
        """
        sector = self._sector
        first, last = offset // sector * sector, min(offset + length, self.bytes)
        last = -(-last // sector) * sector
        if offset < 0 or first >= last:
            return b""
        return self._plain(first, last)[offset - first : offset - first + length]

    def sealed(self, offset: int, data: bytes) -> Iterator[tuple[int, bytes, bytes]]:
        """What plain bytes are on the disk: place there, bytes now, bytes afterwards, in whole
        sectors.

        Raises:
            RefusedError: they are kept where the lock itself keeps something. ReadError.
        """
        sector = self._sector
        first, last = offset // sector * sector, -(-(offset + len(data)) // sector) * sector
        plain = bytearray(self._plain(first, last))
        plain[offset - first : offset - first + len(data)] = data
        for place, after in self._encrypted(first, bytes(plain)):
            before = self._source.read(place, len(after)).data
            for start, end in self._unlike(before, after):
                yield place + start, before[start:end], after[start:end]

    def _unlike(self, before: bytes, after: bytes) -> Iterator[tuple[int, int]]:
        """Runs of sectors that are not alike: from where to where."""
        start, sector = None, self._sector
        for at in range(0, len(after), sector):
            same = before[at : at + sector] == after[at : at + sector]
            if start is None and not same:
                start = at
            elif start is not None and same:
                yield start, at
                start = None
        if start is not None:
            yield start, len(after)

    @abstractmethod
    def _encrypted(self, first: int, plain: bytes) -> Iterator[tuple[int, bytes]]:
        """Whole sectors as they are kept on the disk: where, and what."""

    @abstractmethod
    def _plain(self, first: int, last: int) -> bytes:
        """Plain bytes of whole sectors, from the first byte to the one behind the last."""

    def over(self, source: Source) -> Self:
        """The same volume, read by another source of the same disk."""
        again = copy(self)
        again._source = source
        return again
