"""Bytes of a source as they would be, gathered before anything is written."""

from collections.abc import Iterator

from mending.model import Window
from mending.model.limits import WINDOW_BYTES
from mending.source import Source

_SECTOR = 512


class WriteBuffer:
    """A source as it would be, kept in sectors of 512 bytes."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self.size, self.bytes_read = source.size, 0
        self.changed: dict[int, bytearray] = {}

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        data = bytearray(self._source.read(offset, length).data)
        for number in range(offset // _SECTOR, -(-(offset + len(data)) // _SECTOR)):
            sector = self.changed.get(number)
            if sector is not None:
                start, end = (
                    max(offset, number * _SECTOR),
                    min(offset + len(data), (number + 1) * _SECTOR),
                )
                data[start - offset : end - offset] = sector[
                    start - number * _SECTOR : end - number * _SECTOR
                ]
        return Window(bytes(data), offset)

    def put(self, offset: int, data: bytes) -> None:
        """Change some bytes."""
        at = 0
        while at < len(data):
            number, inside = divmod(offset + at, _SECTOR)
            if number not in self.changed:
                self.changed[number] = bytearray(self._source.read(number * _SECTOR, _SECTOR).data)
            step = min(_SECTOR - inside, len(data) - at)
            self.changed[number][inside : inside + step] = data[at : at + step]
            at += step

    def ranges(self) -> Iterator[tuple[int, bytes, bytes]]:
        """Offset, bytes before and bytes after of every stretch that changed."""
        for first, last in self._stretches():
            after = b"".join(bytes(self.changed[number]) for number in range(first, last + 1))
            before = self._source.read(first * _SECTOR, len(after)).data
            if before != after:
                yield first * _SECTOR, before, after

    def _stretches(self) -> Iterator[tuple[int, int]]:
        """First and last sector of each stretch, none longer than one read may be."""
        first = last = -1
        for number in sorted(self.changed):
            if first >= 0 and number == last + 1 and (number - first) * _SECTOR < WINDOW_BYTES // 2:
                last = number
                continue
            if first >= 0:
                yield first, last
            first = last = number
        if first >= 0:
            yield first, last
