"""Bytes of a volume as a driver may change them: reads come from below, writes stay in memory."""

from collections.abc import Callable, Iterator

BLOCK = 4096
MOST_KEPT = 512 << 20
"""Most bytes that are kept: a kernel and its initramfs with everything around them have under a
third of that.
"""

Read = Callable[[int, int], bytes]
"""Offset and length to bytes; a short answer is the end."""


class CopyOnWrite:
    """A volume and what was written over it.

    Args:
        below: reads of the volume.
        size: bytes of the volume.
    """

    def __init__(self, below: Read, size: int, most: int = MOST_KEPT) -> None:
        self._below, self.size, self._most = below, size, most
        self._blocks: dict[int, bytearray] = {}

    def read(self, offset: int, length: int) -> bytes:
        """Bytes as they are now."""
        length = max(0, min(length, self.size - offset))
        first, last = offset // BLOCK, -(-(offset + length) // BLOCK)
        written = [number for number in range(first, last) if number in self._blocks]
        if len(written) == last - first:
            data = bytearray(b"".join(self._blocks[number] for number in written))
            return bytes(data[offset - first * BLOCK :][:length])
        data = bytearray(self._below(offset, length).ljust(length, b"\0"))
        for number in written:
            block, at = self._blocks[number], number * BLOCK - offset
            start, end = max(at, 0), min(at + len(block), length)
            data[start:end] = block[start - at : end - at]
        return bytes(data)

    def write(self, offset: int, data: bytes) -> int:
        """Keep a write.

        Raises:
            OSError: behind the end, or more than is kept.
        """
        if offset < 0 or offset + len(data) > self.size:
            raise OSError(27, "behind the end of the volume")
        at = 0
        while at < len(data):
            number, into = divmod(offset + at, BLOCK)
            piece = data[at : at + BLOCK - into]
            self._block(number)[into : into + len(piece)] = piece
            at += len(piece)
        return len(data)

    def _block(self, number: int) -> bytearray:
        block = self._blocks.get(number)
        if block is None:
            if (len(self._blocks) + 1) * BLOCK > self._most:
                raise OSError(28, "more is written than is kept")
            start = number * BLOCK
            length = min(BLOCK, self.size - start)
            block = bytearray(self._below(start, length).ljust(length, b"\0"))
            self._blocks[number] = block
        return block

    def changed(self) -> Iterator[tuple[int, bytes]]:
        """Offset and bytes of what differs from below, neighbours in one piece."""
        start, held = 0, bytearray()
        for number in sorted(self._blocks):
            at, block = number * BLOCK, self._blocks[number]
            if self._below(at, len(block)) == block:
                continue
            if held and start + len(held) != at:
                yield start, bytes(held)
                held = bytearray()
            if not held:
                start = at
            held += block
        if held:
            yield start, bytes(held)
