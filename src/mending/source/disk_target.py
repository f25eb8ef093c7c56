"""What all disks share as targets of changes, whatever their bytes come from."""

from collections.abc import Iterator, Sequence

from mending.model import Change, FileChange, Patch, ReadError, RefusedError, Window
from mending.model.limits import IDENTITY_RANGE_BYTES, IDENTITY_RANGES
from mending.source.base import IdentityPart, Source, TargetKind

_BLOCK = 4096
"""Holes are of whole blocks, and so are the ranges between them."""


class DiskTarget:
    """The four shared ways of a target, in terms of `read` and `write`."""

    path: str
    size: int

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
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

    def overlaid(self, changes: Sequence[Change]) -> "DiskOverlay":
        """See `Target.overlaid`."""
        return DiskOverlay(self, [self._patch(change) for change in changes])  # type: ignore[arg-type]

    def identity_parts(self, changes: Sequence[Change]) -> list[IdentityPart]:
        """See `Target.identity_parts`: ranges spread evenly over the disk."""
        patches = [self._patch(change) for change in changes]
        step = max((self.size - IDENTITY_RANGE_BYTES) // max(IDENTITY_RANGES - 1, 1), 1)
        starts = {number * step // 512 * 512 for number in range(IDENTITY_RANGES)}
        parts = []
        for start in sorted(starts):
            length = min(IDENTITY_RANGE_BYTES, self.size - start)
            end = start + length
            touched = any(start < patch.end and patch.offset < end for patch in patches)
            if length > 0 and not touched:
                parts.append(IdentityPart(start, length))
        return parts

    def content_of(self, part: IdentityPart) -> bytes | None:
        """See `Target.content_of`."""
        try:
            return self.read(part.offset, part.length).data
        except ReadError:
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
