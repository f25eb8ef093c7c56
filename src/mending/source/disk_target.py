"""What all disks share as targets of changes, whatever their bytes come from.

A repair is a list of patches, and the same four operations serve to look at what is there, to write
it, to show the disk as it would be, and to recognise it later. The last rests on places that are
not zero, spread over what the disk holds: identifiers may be copied with a disk, contents seldom
agree. The overlay answers reads from the patches first and from the disk below them otherwise, so
that everything that reads a disk can judge a repair before it is written.
"""

from collections.abc import Iterator, Sequence
from itertools import islice
from pathlib import Path

from mending.model import (
    Change,
    FileChange,
    NotGatheredError,
    Patch,
    ReadError,
    RefusedError,
    Window,
)
from mending.model.limits import IDENTITY_RANGE_BYTES, IDENTITY_RANGES
from mending.source.base import IdentityPart, Source, TargetKind

_BLOCK = 4096
"""Holes are of whole blocks, and so are the ranges between them."""
_MOST_RANGES, _PIECE, _LOOKED_AT = 10_000, 1 << 16, 1 << 24
"""Stretches between holes that are counted; bytes read at once, and looked at for one block that is
not zero.
"""


class DiskTarget:
    """The four shared ways of a target, in terms of `read` and `write`."""

    path: str
    size: int

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        raise NotImplementedError

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """See `Source.data_ranges`."""
        raise NotImplementedError

    def write(self, offset: int, data: bytes) -> None:
        """See `Source.write`."""
        raise NotImplementedError

    def flush(self) -> None:
        """See `Source.flush`."""
        raise NotImplementedError

    def current(self, change: Change) -> bytes | None:
        """See `Target.current`."""
        patch = self._patch(change)
        return self.read(patch.offset, patch.length).data

    def apply(self, changes: Sequence[Change]) -> None:
        """See `Target.apply`."""
        for change in changes:
            patch = self._patch(change)
            self.write(patch.offset, patch.after)
        self.flush()

    def refuse_barred(self, changes: Sequence[Change]) -> None:
        """See `Target.refuse_barred`: a disk that may not be written is not opened for it."""

    def holds_path(self, place: Path) -> bool:  # noqa: ARG002
        """See `Target.holds_path`: what is mounted is not opened for writing."""
        return False

    def overlaid(self, changes: Sequence[Change]) -> "DiskOverlay":
        """See `Target.overlaid`."""
        patches = [self._patch(change) for change in changes]
        return DiskOverlay(self, patches)  # type: ignore[arg-type]

    def identity_parts(self, changes: Sequence[Change]) -> list[IdentityPart]:
        """See `Target.identity_parts`: ranges that are not zero, spread evenly over what the disk
        holds.
        """
        patches = [self._patch(change) for change in changes]
        held = list(islice(self.data_ranges(), _MOST_RANGES))
        total = sum(length for _, length in held)
        step = max(total // IDENTITY_RANGES, IDENTITY_RANGE_BYTES)
        parts: dict[int, IdentityPart] = {}
        for wanted in range(0, total, step):
            for start in self._filled_from(held, wanted):
                end = min(start + IDENTITY_RANGE_BYTES, self.size)
                touched = any(start < patch.end and patch.offset < end for patch in patches)
                if start not in parts and not touched:
                    parts[start] = IdentityPart(start, end - start)
                    break
        return list(parts.values())

    def _filled_from(self, held: list[tuple[int, int]], wanted: int) -> Iterator[int]:
        """Starts of blocks that are not zero, from so many bytes of what the disk holds on."""
        looked = 0
        for start, length in held:
            if wanted >= length:
                wanted -= length
                continue
            for at in range(start + wanted, start + length, _PIECE):
                if looked >= _LOOKED_AT:
                    return
                looked += _PIECE
                first = at // IDENTITY_RANGE_BYTES * IDENTITY_RANGE_BYTES
                data = self.content_of(IdentityPart(first, min(_PIECE, start + length - first)))
                if not data or not data.strip(b"\0"):
                    continue
                for offset in range(0, len(data), IDENTITY_RANGE_BYTES):
                    if data[offset : offset + IDENTITY_RANGE_BYTES].strip(b"\0"):
                        yield first + offset
            wanted = 0

    def content_of(self, part: IdentityPart) -> bytes | None:
        """See `Target.content_of`."""
        try:
            return self.read(part.offset, part.length).data
        except (ReadError, NotGatheredError):
            return None

    def _patch(self, change: Change) -> Patch:
        if isinstance(change, FileChange):
            raise RefusedError(f"{change.path} is a file; {self.path} is a disk, changed in bytes.")
        return change


class DiskOverlay(DiskTarget):
    """A write overlay: another disk as it would be after some patches. Nothing can be written to
    it.
    """

    def __init__(self, base: Source, patches: Sequence[Patch]) -> None:
        self._base = base
        self._patches = tuple(patches)
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
        """See `Source.read`; a patched range is not read from below alone."""
        window = self._base.read(offset, length)
        data = bytearray(window.data)
        for patch in self._patches:
            start, end = max(patch.offset, offset), min(patch.end, offset + len(data))
            if start < end:
                after = patch.after[start - patch.offset : end - patch.offset]
                data[start - offset : end - offset] = after
        return Window(bytes(data), offset)

    def read_into(self, offset: int, buffer: memoryview) -> int:
        """See `Source.read_into`."""
        data = self.read(offset, len(buffer)).data
        buffer[: len(data)] = data
        return len(data)

    def data_ranges(self) -> Iterator[tuple[int, int]]:
        """See `Source.data_ranges`: what the source below holds, and what the patches put over its
        holes, joined where they touch.
        """
        spans = list(self._base.data_ranges())
        for patch in self._patches:
            start = patch.offset // _BLOCK * _BLOCK
            end = min(-(-patch.end // _BLOCK) * _BLOCK, self.size)
            spans.append((start, end - start))
        start = end = 0
        for at, length in sorted(spans):
            if at > end:
                if end > start:
                    yield start, end - start
                start, end = at, at
            end = max(end, at + length)
        if end > start:
            yield start, end - start

    def count_read(self, count: int) -> None:
        """See `Source.count_read`."""
        self._base.count_read(count)

    def write(self, offset: int, data: bytes) -> None:
        """Always refused."""
        raise RefusedError(f"{len(data)} bytes at {offset}: this is only a rehearsal of a repair.")

    def flush(self) -> None:
        """Nothing to wait for."""

    def close(self) -> None:
        """The source below is closed by whoever opened it."""
