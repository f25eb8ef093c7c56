"""A mounted tree: the files of an installed system below a folder, read and replaced without ever
leaving it.
"""

import contextlib
import errno
import os
import stat
from collections.abc import Mapping, Sequence
from pathlib import Path

from mending.model import Change, FileChange, InputError, Patch, RefusedError, clean_text
from mending.model.limits import LARGEST_CHANGE
from mending.source.base import IdentityPart, MountedTree, TargetKind, TreeRow
from mending.source.durable_files import flush_folder

_KNOWN_FILES = (
    "/etc/machine-id",
    "/etc/hostname",
    "/etc/fstab",
    "/etc/os-release",
    "/usr/lib/os-release",
)
"""By what a mounted tree is known again."""


class _TreeTarget:
    """The shared ways of a target, in terms of `holds` and `put`."""

    path: str
    size = 0
    serial = ""

    def holds(self, path: str) -> bytes | None:
        """See `MountedTree.holds`."""
        raise NotImplementedError

    def put(self, path: str, data: bytes | None) -> None:
        """Replace, make or (None) remove a file."""
        raise NotImplementedError

    def current(self, change: Change) -> bytes | None:
        """See `Target.current`."""
        return self.holds(self._file_change(change).path)

    def apply(self, changes: Sequence[Change]) -> None:
        """See `Target.apply`; every file is on the medium before the next one is begun."""
        for change in changes:
            file_change = self._file_change(change)
            self.put(file_change.path, file_change.after)

    def overlaid(self, changes: Sequence[Change]) -> "FolderOverlay":
        """See `Target.overlaid`."""
        return FolderOverlay(self, [self._file_change(change) for change in changes])  # type: ignore[arg-type]

    def identity_parts(self, changes: Sequence[Change]) -> list[IdentityPart]:
        """See `Target.identity_parts`: files that tell installed systems apart."""
        touched = {self._file_change(change).path for change in changes}
        parts = []
        for path in _KNOWN_FILES:
            data = self.content_of(IdentityPart(0, 0, path)) if path not in touched else None
            if data is not None:
                parts.append(IdentityPart(0, len(data), path))
        return parts

    def content_of(self, part: IdentityPart) -> bytes | None:
        """See `Target.content_of`; a file that is a link or cannot be read says nothing."""
        try:
            return self.holds(part.path)
        except InputError:
            return None

    def _file_change(self, change: Change) -> FileChange:
        if isinstance(change, Patch):
            raise RefusedError(f"Bytes at {change.offset} are of a disk; {self.path} is a tree.")
        return change


class FolderSource(_TreeTarget):
    """Files below one folder, by paths from its top. Links are never followed here; whoever asks
    resolves them.

    Attributes:
        path: as the person typed it.
        bytes_read: how many bytes have been read so far.
        writable: only a repair asks for that.
    """

    def __init__(self, path: str, *, writable: bool = False) -> None:
        self.path, self.kind, self.bytes_read = path, TargetKind.FOLDER, 0
        self._top, self._writable = Path(path).resolve(), writable

    def listing(self, folder: str) -> list[TreeRow]:
        """What a folder holds. Raises OSError."""
        rows = []
        for entry in os.scandir(self._inside(folder)):
            info = entry.stat(follow_symlinks=False)
            mode = info.st_mode
            if stat.S_ISREG(mode) or stat.S_ISDIR(mode) or stat.S_ISLNK(mode):
                row = (
                    entry.name,
                    info.st_size,
                    stat.S_ISDIR(mode),
                    stat.S_ISLNK(mode),
                    stat.S_IMODE(mode),
                )
                rows.append(row)
        return sorted(rows)

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file. Raises OSError; also for a file that became a link or a
        device.
        """
        fd = os.open(self._inside(path), os.O_RDONLY | os.O_NOFOLLOW | os.O_NONBLOCK | os.O_CLOEXEC)
        with os.fdopen(fd, "rb") as file:
            info = os.fstat(fd)
            data = file.read(min(length, info.st_size)) if stat.S_ISREG(info.st_mode) else b""
        self.bytes_read += len(data)
        return data

    def link(self, path: str) -> str:
        """What a link points at. Raises OSError."""
        return str(self._inside(path).readlink())

    def holds(self, path: str) -> bytes | None:
        """The whole content of a file; None where there is none. Raises InputError."""
        try:
            return self.read(path, LARGEST_CHANGE)
        except FileNotFoundError:
            return None
        except OSError as error:
            raise InputError(f"{path} in {self.path} cannot be read: {error.strerror}.") from error

    def put(self, path: str, data: bytes | None) -> None:
        """Replace, make or (None) remove a file, so that a power cut leaves the old one or the new
        one.

        Raises:
            RefusedError: the folder was not opened for writing.
            InputError: it cannot be written.
        """
        if not self._writable:
            raise RefusedError(f"{self.path} was opened to be read.")
        try:
            place = self._inside(path)
            if data is None:
                place.unlink(missing_ok=True)
            else:
                place.parent.mkdir(parents=True, exist_ok=True)
                _replace(place, data)
            flush_folder(place.parent)
        except OSError as error:
            raise InputError(
                f"{path} in {self.path} cannot be written: {error.strerror}."
            ) from error

    def room(self) -> tuple[int, int] | None:
        """Bytes and inodes that are free for everybody; None where the folder is not the top of a
        mounted volume.
        """
        if not self._top.is_mount():
            return None
        info = os.statvfs(self._top)
        return info.f_bavail * info.f_frsize, info.f_favail

    def close(self) -> None:
        """Nothing to let go of."""

    def place(self, path: str) -> Path:
        """Where a file is for the system that runs. Raises OSError for a path with links on the
        way.
        """
        return self._inside(path)

    def _inside(self, path: str) -> Path:
        """The place of a path; every folder on the way must be a folder and no link."""
        names = [part for part in path.split("/") if part not in {"", "."}]
        if ".." in names:
            raise OSError(errno.EINVAL, f"a path that leaves the folder: {clean_text(path, 80)}")
        place = self._top
        for name in names[:-1]:
            place = place / name
            if place.is_symlink():
                raise OSError(errno.ELOOP, f"a link on the way: {clean_text(path, 80)}")
        return place / names[-1] if names else place


def _replace(place: Path, data: bytes) -> None:
    """Write beside, then rename; mode and owner stay those of the file that was there."""
    beside = place.with_name(f".{place.name}.{os.getpid()}.new")
    try:
        with beside.open("wb") as file:
            file.write(data)
            with contextlib.suppress(FileNotFoundError):
                old = place.stat()
                os.fchmod(file.fileno(), stat.S_IMODE(old.st_mode))
                with contextlib.suppress(PermissionError):
                    os.fchown(file.fileno(), old.st_uid, old.st_gid)
            file.flush()
            os.fsync(file.fileno())
        beside.replace(place)
    finally:
        beside.unlink(missing_ok=True)


class FolderOverlay(_TreeTarget):
    """A folder as it would be after some changes. Nothing can be written to it."""

    def __init__(self, base: MountedTree, changes: Sequence[FileChange]) -> None:
        self._base = base
        self.path: str = base.path
        self.kind: TargetKind = base.kind
        self._new: Mapping[str, bytes | None] = {change.path: change.after for change in changes}

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
                mode = rows[name][4] if name in rows else 0o644
                rows[name] = (name, len(data), False, False, mode)
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
        return self._base.link(path)

    def holds(self, path: str) -> bytes | None:
        """See `FolderSource.holds`."""
        return self._new[path] if path in self._new else self._base.holds(path)

    def room(self) -> tuple[int, int] | None:
        """See `FolderSource.room`."""
        return self._base.room()

    def put(self, path: str, data: bytes | None) -> None:  # noqa: ARG002
        """Always refused."""
        raise RefusedError(f"{path}: this is only a rehearsal of a repair.")


def open_folder_source(path: str, *, for_writing: bool = False) -> FolderSource:
    """Open a mounted tree.

    Raises:
        InputError: no folder.
        RefusedError: the root of the running system, and `for_writing`.
    """
    place = Path(path)
    if not place.is_dir():
        raise InputError(f"{path} is no folder.")
    if for_writing and place.resolve() == Path("/"):
        raise RefusedError(
            "This is the system that is running.",
            "Start from a rescue stick and mount it elsewhere.",
        )
    return FolderSource(path, writable=for_writing)
