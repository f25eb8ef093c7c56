"""What all disks share as targets of changes, whatever their bytes come from.

A repair is a list of patches, and the same four operations serve to look at what is there, to write
it, to show the disk as it would be, and to recognise it later. The last rests on places that are
not zero, spread over what the disk holds: identifiers may be copied with a disk, contents seldom
agree. The overlay answers reads from the patches first and from the disk below them otherwise, so
that everything that reads a disk can judge a repair before it is written.
"""

import os
from collections.abc import Iterator, Mapping, Sequence
from itertools import islice
from pathlib import Path

import msgspec

from mending.model import (
    Change,
    FileAttributes,
    FileChange,
    InputError,
    NotGatheredError,
    Patch,
    ReadError,
    RefusedError,
    Window,
)
from mending.model.limits import IDENTITY_RANGE_BYTES, IDENTITY_RANGES
from mending.source.base import IdentityPart, MountedTree, Source, TargetKind, TreeRow

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


# What all mounted trees share as targets of changes, and a tree as it would be after some.


_KNOWN_FILES = (
    "/etc/machine-id",
    "/etc/hostname",
    "/etc/fstab",
    "/etc/os-release",
    "/usr/lib/os-release",
)
_KNOWN_FOLDERS = ("/", "/etc", "/usr", "/EFI", "/boot/efi/EFI")
"""By what a mounted tree is known again: files that tell installed systems apart, and which folders
these are (by their numbers in the file system), for two systems may be copies of each other.
"""


class TreeTarget:
    """The shared ways of a target, in terms of `holds` and `put`."""

    path: str
    size = 0
    serial = ""

    def holds(self, path: str, links: bool = False) -> bytes | None:
        """See `MountedTree.holds`."""
        raise NotImplementedError

    def put(self, change: FileChange) -> None:
        """Replace, make or remove a file."""
        raise NotImplementedError

    def current(self, change: Change) -> bytes | None:
        """See `Target.current`."""
        file = self._file_change(change)
        return self.holds(file.path, file.is_link)

    def apply(self, changes: Sequence[Change]) -> None:
        """See `Target.apply`; every file is on the medium before the next one is begun."""
        for change in changes:
            self.put(self._file_change(change))

    def refuse_barred(self, changes: Sequence[Change]) -> None:
        """See `Target.refuse_barred`."""

    def holds_path(self, place: Path) -> bool:
        """See `Target.holds_path`."""
        return place.resolve().is_relative_to(Path(self.path).resolve())

    def overlaid(self, changes: Sequence[Change]) -> "FolderOverlay":
        """See `Target.overlaid`."""
        files = [self._file_change(change) for change in changes]
        return FolderOverlay(self, files)  # type: ignore[arg-type]

    def identity_parts(self, changes: Sequence[Change]) -> list[IdentityPart]:
        """See `Target.identity_parts`."""
        touched = {self._file_change(change).path for change in changes}
        parts = [IdentityPart(0, 0, f"{folder}//") for folder in _KNOWN_FOLDERS]
        parts += [IdentityPart(0, 0, path) for path in _KNOWN_FILES if path not in touched]
        return [part for part in parts if self.content_of(part) is not None]

    def content_of(self, part: IdentityPart) -> bytes | None:
        """See `Target.content_of`; a path that ends in two slashes asks which folder that is. A
        file that is a link or cannot be read says nothing.
        """
        if part.path.endswith("//"):
            return self.number_of(part.path)
        try:
            return self.holds(part.path)
        except InputError:
            return None

    def number_of(self, folder: str) -> bytes | None:
        """Which folder this is, as its file system counts; None where it has no lasting numbers."""
        raise NotImplementedError

    def _file_change(self, change: Change) -> FileChange:
        if isinstance(change, Patch):
            raise RefusedError(f"Bytes at {change.offset} are of a disk; {self.path} is a tree.")
        return change


class FolderOverlay(TreeTarget):
    """A folder as it would be after some changes. Nothing can be written to it."""

    def __init__(self, base: MountedTree, changes: Sequence[FileChange]) -> None:
        self._base = base
        self.path: str = base.path
        self.kind: TargetKind = base.kind
        self._new: Mapping[str, bytes | None] = {change.path: change.after for change in changes}
        self._links = {
            change.path
            for change in changes
            if change.attributes_after is not None and change.attributes_after.is_link
        }
        self._modes = {
            change.path: change.attributes_after.mode
            for change in changes
            if change.attributes_after
        }

    @property
    def bytes_read(self) -> int:
        """What the folder below has read."""
        return self._base.bytes_read

    def listing(self, folder: str) -> list[TreeRow]:
        """See `FolderSource.listing`."""
        top = folder.rstrip("/")
        try:
            rows = {row[0]: row for row in self._base.listing(folder)}
        except FileNotFoundError:
            rows = {}
        for path, data in self._new.items():
            home, _, name = path.rpartition("/")
            if home == top and data is None:
                rows.pop(name, None)
            elif home == top and data is not None:
                mode = self._modes.get(path, rows[name][4] if name in rows else 0o644)
                rows[name] = (name, len(data), False, path in self._links, mode)
            elif home.startswith(f"{top}/"):
                below = home[len(top) + 1 :].split("/")[0]
                rows.setdefault(below, (below, 0, True, False, 0o755))
        return sorted(rows.values())

    def read(self, path: str, length: int) -> bytes:
        """See `FolderSource.read`."""
        if path in self._new:
            return (self._new[path] or b"")[:length]
        return self._base.read(path, length)

    def link(self, path: str) -> str:
        """See `FolderSource.link`."""
        if path in self._links:
            return os.fsdecode(self._new[path] or b"")
        return self._base.link(path)

    def number_of(self, folder: str) -> bytes | None:
        """See `FolderSource.number_of`."""
        return self._base.number_of(folder)

    def holds(self, path: str, links: bool = False) -> bytes | None:
        """See `FolderSource.holds`."""
        return self._new[path] if path in self._new else self._base.holds(path, links)

    def change_of(
        self, path: str, data: bytes | None, says: str, attributes: FileAttributes | None = None
    ) -> FileChange:
        """See `MountedTree.change_of`; of a file that is changed already, its new content is what
        stands there.
        """
        below = self._base.change_of(path, data, says, attributes)
        if path not in self._new:
            return below
        return msgspec.structs.replace(below, before=self._new[path], folders=())

    def room(self) -> tuple[int, int] | None:
        """See `FolderSource.room`."""
        return self._base.room()

    def put(self, change: FileChange) -> None:
        """Always refused."""
        raise RefusedError(f"{change.path}: this is only a rehearsal of a repair.")
