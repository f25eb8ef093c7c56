"""What all mounted trees share as targets of changes, and a tree as it would be after some."""

import os
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from mending.model import (
    Change,
    FileAttributes,
    FileChange,
    InputError,
    Patch,
    RefusedError,
)
from mending.source.base import IdentityPart, MountedTree, TargetKind, TreeRow

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
