"""A disk with further places behind its end: volumes whose pieces lie apart, each in one piece.

What a logical volume holds can so be read by whatever reads a volume. Those places are no bytes of
the disk: they can be read and not written.
"""

from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Sequence

import msgspec

from mending.model import Patch, RefusedError, Window
from mending.source.base import Source, TargetKind
from mending.source.targets import DiskTarget

BEHIND = 1 << 60
"""Where the first such place starts; no disk is as long."""
_GAP = 1 << 40
FIRST_VIEW = 1 << 59
"""Where the first view starts; no disk is as long, and volumes in pieces lie behind."""
_VIEW_GAP = 1 << 46
View = Callable[[int, int], bytes]
"""Offset and length to bytes; fewer at the end."""
Seal = Callable[[int, bytes], Iterable[tuple[int, bytes, bytes]]]
"""Offset and bytes to places on the disk: where, bytes now, bytes afterwards."""
_TOGETHER = 4096
"""Patches this close are worked out at once: no sector of a locked volume is longer."""


class Stripes(msgspec.Struct, frozen=True):
    """A part of a volume.

    Attributes:
        length: in bytes.
        unit: bytes that lie together before the next stripe goes on; all of them where there is one
            stripe.
        starts: where each stripe lies on the disk.
    """

    length: int
    unit: int
    starts: tuple[int, ...]

    def place(self, into: int) -> tuple[int, int]:
        """Where a byte of the part is, and how many from there on lie together."""
        number, within = divmod(into, self.unit)
        line, column = divmod(number, len(self.starts))
        together = min(self.unit - within, self.length - into)
        return self.starts[column] + line * self.unit + within, together


class _OverDisk(DiskTarget):
    """A disk with more behind its end; all but reading goes to the disk, and nothing is written."""

    def __init__(self, base: Source) -> None:
        self._base = base
        self.path = base.path
        self.kind: TargetKind = base.kind
        self.size = base.size
        self.bytes_per_sector = base.bytes_per_sector
        self.serial = base.serial

    @property
    def bytes_read(self) -> int:
        """What the source below has read."""
        return self._base.bytes_read

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        raise NotImplementedError

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """See `Source.read_into`."""
        data = self.read(offset, len(buffer)).data
        buffer[: len(data)] = data
        return len(data)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """See `Source.data_ranges`: those of the disk."""
        return self._base.data_ranges()

    def count_read(self, count: int) -> None:
        """See `Source.count_read`."""
        self._base.count_read(count)

    def write(self, offset: int, data: bytes) -> None:
        """Always refused."""
        raise RefusedError(
            f"{len(data)} bytes at {offset}: what is laid behind the end is only read."
        )

    def flush(self) -> None:
        """Nothing to wait for."""

    def close(self) -> None:
        """The source below is closed by whoever opened it."""


class StitchedSource(_OverDisk):
    """See the module."""

    def __init__(self, base: Source) -> None:
        super().__init__(base)
        self._next = BEHIND
        self._starts: list[int] = []
        self._parts: list[Stripes] = []

    def add(self, parts: Sequence[Stripes]) -> int:
        """Lay parts one behind the other; returns where they can be read."""
        start = at = self._next
        for part in parts:
            self._starts.append(at)
            self._parts.append(part)
            at += part.length
        self._next = -(-at // _GAP) * _GAP + _GAP
        return start

    def places(self, offset: int, length: int) -> Iterator[tuple[int, int]]:
        """Where bytes lie on the disk itself: offset and length of each piece, in order."""
        while length > 0:
            place, together = offset, length
            if offset >= BEHIND:
                number = bisect_right(self._starts, offset) - 1
                place, together = self._parts[number].place(offset - self._starts[number])
            step = min(length, together)
            yield place, step
            offset, length = offset + step, length - step

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        if offset < BEHIND:
            return self._base.read(offset, length)
        parts, at = [], offset
        while length > 0:
            number = bisect_right(self._starts, at) - 1
            into = at - self._starts[number]
            if into >= self._parts[number].length:
                break
            place, together = self._parts[number].place(into)
            step = min(length, together)
            data = self._base.read(place, step).data
            parts.append(data)
            if len(data) < step:
                break
            at, length = at + step, length - step
        return Window(b"".join(parts), offset)


class FileOnDisk(StitchedSource):
    """A file that lies on a disk, read as a source of its own, as far as it is wanted.

    Args:
        pieces: where it lies on the base, offset and length, in order.
        size: of the file, in bytes.
    """

    def __init__(self, base: Source, pieces: Sequence[tuple[int, int]], size: int) -> None:
        super().__init__(base)
        parts = [Stripes(length, length, (place,)) for place, length in pieces if length]
        self._first = self.add(parts)
        self.size = size

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        wanted = max(min(length, self.size - offset), 0) if offset >= 0 else 0
        return Window(super().read(self._first + offset, wanted).data if wanted else b"", offset)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """See `Source.data_ranges`: all of it."""
        yield 0, self.size


class ViewedSource(_OverDisk):
    """A disk with plain views of locked ranges behind its end. They can be read like every place of
    the disk; nothing is written through it.
    """

    def __init__(self, base: Source) -> None:
        super().__init__(base)
        self._views: list[tuple[View, Seal | None]] = []

    def add(self, view: View, seal: Seal | None = None) -> int:
        """Lay a view behind the others; returns where it can be read.

        Args:
            seal: tells what its bytes are on the disk itself; None where they cannot be changed.
        """
        self._views.append((view, seal))
        return FIRST_VIEW + (len(self._views) - 1) * _VIEW_GAP

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        if offset < FIRST_VIEW:
            return self._base.read(offset, length)
        number, into = divmod(offset - FIRST_VIEW, _VIEW_GAP)
        known = number < len(self._views)
        return Window(self._views[number][0](into, length) if known else b"", offset)

    def on_disk(self, patches: Sequence[Patch]) -> list[Patch]:
        """Patches of the disk itself for those of what is laid behind its end; others as they are.

        Raises:
            RefusedError: a view that cannot be changed, or not there.
        """
        found = [patch for patch in patches if patch.offset < FIRST_VIEW]
        inside = [patch for patch in patches if patch.offset >= FIRST_VIEW]
        inside.sort(key=lambda patch: patch.offset)
        while inside:
            first = inside[0].offset // _TOGETHER * _TOGETHER
            run = [inside.pop(0)]
            while inside and inside[0].offset // _TOGETHER * _TOGETHER <= run[-1].end:
                run.append(inside.pop(0))
            plain = bytearray(self.read(first, max(each.end for each in run) - first).data)
            for each in run:
                plain[each.offset - first : each.end - first] = each.after
            number, into = divmod(first - FIRST_VIEW, _VIEW_GAP)
            seal = self._views[number][1] if number < len(self._views) else None
            if seal is None:
                raise RefusedError("What this volume shows here is only read.")
            found += [Patch(*sealed, run[0].says) for sealed in seal(into, bytes(plain))]
        return found


class OverlaidSource(_OverDisk):
    """A disk of which a range shows something else; nothing is written through it.

    Args:
        start, length: the range, in bytes.
        view: what stands there, by places in the range; the disk's own bytes where it ends.
    """

    def __init__(self, base: Source, start: int, length: int, view: View) -> None:
        super().__init__(base)
        self._range, self._view = (start, start + length), view

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        first, last = self._range
        end = offset + length
        if end <= first or last <= offset:
            return self._base.read(offset, length)
        before = self._base.read(offset, first - offset).data if offset < first else b""
        inside = self._view(max(offset - first, 0), min(end, last) - max(offset, first))
        behind = self._base.read(last, end - last).data if end > last else b""
        return Window(before + inside + behind, offset)
