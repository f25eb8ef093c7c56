"""A mounted tree: the files of an installed system below a folder, read and replaced without ever
leaving it.
"""

import errno
import os
import stat
from collections.abc import Iterator, Sequence
from pathlib import Path

from mending.model import (
    Change,
    FileAttributes,
    FileChange,
    InputError,
    RefusedError,
    clean_text,
)
from mending.model.limits import FOLDER_ROWS, LARGEST_CHANGE
from mending.source import busy
from mending.source.base import TargetKind, TreeRow
from mending.source.beneath import Beneath
from mending.source.tree_target import TreeTarget


class FolderSource(TreeTarget):
    """Files below one folder, by paths from its top. Links are never followed here; whoever asks
    resolves them.

    Attributes:
        path: as the person typed it.
        bytes_read: how many bytes have been read so far.
        writable: only a repair asks for that; then nobody else may write until it is closed.

    Raises:
        OSError: the folder cannot be opened.
        RefusedError: it is to be written and is the root of the running system, or another repair
            of it is under way.
    """

    def __init__(self, path: str, *, writable: bool = False) -> None:
        self.path, self.kind, self.bytes_read = path, TargetKind.FOLDER, 0
        self._top, self._writable = Path(path).resolve(), writable
        self._beneath = Beneath(self._top)
        if writable and self._beneath.is_same_folder("/"):
            raise RefusedError(
                "This is the system that is running.",
                "Start from a rescue stick and mount it elsewhere.",
            )
        if writable and os.fstatvfs(self._beneath.fd).f_flag & os.ST_RDONLY:
            raise RefusedError(f"{path} is mounted to be read only.", "Mount it for writing.")
        if writable:
            busy.lock(self._beneath.fd, path)

    def listing(self, folder: str) -> list[TreeRow]:
        """What a folder holds.

        Raises:
            OSError
        """
        try:
            with self._beneath.folder(folder) as handle:
                return sorted(_rows_of(handle))
        except FileNotFoundError:
            if self._beneath.is_mounted_over(folder):
                return []
            raise

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file.

        Raises:
            OSError: also for a file that became a link or a device.
        """
        data = self._beneath.read(path, length)
        self.bytes_read += len(data)
        return data

    def link(self, path: str) -> str:
        """What a link points at.

        Raises:
            OSError
        """
        return self._beneath.link(path)

    def holds(self, path: str, links: bool = False) -> bytes | None:
        """The whole content of a file; None where there is none.

        Args:
            links: of a link, what it points at; else a link is an error.

        Raises:
            InputError
        """
        try:
            info = self._beneath.status(path)
            if info is None:
                return None
            if links and stat.S_ISLNK(info.st_mode):
                return os.fsencode(self.link(path))
            if not stat.S_ISREG(info.st_mode):
                raise OSError(errno.EINVAL, "no plain file")
            if info.st_size > LARGEST_CHANGE:
                raise OSError(errno.EFBIG, "larger than any file that is put back")
            return self.read(path, LARGEST_CHANGE)
        except FileNotFoundError:
            return None
        except OSError as error:
            raise self._wrong(path, "read", error) from error

    def number_of(self, folder: str) -> bytes | None:
        """See `TreeTarget.number_of`."""
        try:
            number = self._beneath.folder_number(folder)
        except OSError:
            return None
        return str(number).encode() if number else None

    def change_of(
        self, path: str, data: bytes | None, says: str, attributes: FileAttributes | None = None
    ) -> FileChange:
        """See `MountedTree.change_of`."""
        before = self.holds(path, attributes is not None and attributes.is_link)
        try:
            if before is None:
                folders = self._beneath.missing_folders(path)
                return FileChange(path, None, data, says, None, attributes, folders)
            elsewhere = self._beneath.names_elsewhere(path)
            had = self._beneath.attributes(path)
        except OSError as error:
            raise self._wrong(path, "read", error) from error
        if elsewhere:
            raise RefusedError(
                f"{path} has {elsewhere} more names in other folders, which would keep the old"
                " content.",
                "Change it by hand.",
            )
        return FileChange(path, before, data, says, had, attributes)

    def put(self, change: FileChange) -> None:
        """Replace, make or remove a file, so that a power cut leaves the old one or the new one.

        Raises:
            RefusedError: the folder was not opened for writing.
            InputError: it cannot be written.
        """
        if not self._writable:
            raise RefusedError(f"{self.path} was opened to be read.")
        try:
            if change.after is None:
                self._beneath.remove(change.path, change.folders)
            else:
                attributes, over_link = change.attributes_after, change.is_link
                self._beneath.replace(change.path, change.after, attributes, over_link)
        except OSError as error:
            raise self._wrong(change.path, "written", error) from error

    def is_plain(self, path: str) -> bool:
        """Whether a plain file is there. Raises InputError where that cannot be told."""
        try:
            info = self._beneath.status(path)
        except OSError as error:
            raise self._wrong(path, "read", error) from error
        return info is not None and stat.S_ISREG(info.st_mode)

    def rewrite(self, path: str, data: bytes, mode: int | None) -> None:
        """Give a file another content where it is; see `Beneath.rewrite`.

        Raises:
            RefusedError: the folder was not opened for writing.
            InputError: it cannot be written.
        """
        if not self._writable:
            raise RefusedError(f"{self.path} was opened to be read.")
        try:
            self._beneath.rewrite(path, data, mode)
        except OSError as error:
            raise self._wrong(path, "written", error) from error

    def refuse_barred(self, changes: Sequence[Change]) -> None:
        """See `Target.refuse_barred`: every folder in which a name changes is asked."""
        for change in changes:
            path = self._file_change(change).path
            if not self._beneath.may_change(path):
                raise RefusedError(
                    f"{clean_text(path, 200)} in {self.path} may not be changed by this account.",
                    "Run as administrator, or mount it so that it can be written.",
                )

    def room(self) -> tuple[int, int] | None:
        """Bytes and inodes that are free for everybody; None where the folder is not the top of a
        mounted volume.
        """
        if not self._top.is_mount():
            return None
        info = os.statvfs(self._beneath.fd)
        return info.f_bavail * info.f_frsize, info.f_favail

    def close(self) -> None:
        """Let go of it; closing twice is fine."""
        self._beneath.close()

    def place(self, path: str) -> Path:
        """Where a plain file is for the system that runs.

        Raises:
            OSError: a path with links on the way, and for anything else than a file.
        """
        info = self._beneath.status(path)
        if info is None or not stat.S_ISREG(info.st_mode):
            raise OSError(errno.EINVAL, "no plain file")
        return self._top / path.lstrip("/")

    def _wrong(self, path: str, done: str, error: OSError) -> InputError:
        says = f"{clean_text(path, 200)} in {self.path} cannot be {done}: {error.strerror}."
        return InputError(says)


def _rows_of(handle: int) -> Iterator[TreeRow]:
    """Files, folders and links of a folder.

    Raises:
        OSError: also where it has too many names.
    """
    with os.scandir(handle) as entries:
        for number, entry in enumerate(entries):
            if number >= FOLDER_ROWS:
                raise OSError(errno.EFBIG, "more names than are looked at")
            info = entry.stat(follow_symlinks=False)
            mode = info.st_mode
            if stat.S_ISREG(mode) or stat.S_ISDIR(mode) or stat.S_ISLNK(mode):
                folder, link = stat.S_ISDIR(mode), stat.S_ISLNK(mode)
                yield entry.name, info.st_size, folder, link, stat.S_IMODE(mode)


def open_folder_source(path: str, *, for_writing: bool = False) -> FolderSource:
    """Open a mounted tree.

    Raises:
        InputError: no folder, or one that may not be opened.
        RefusedError: as `FolderSource`.
    """
    if not Path(path).is_dir():
        raise InputError(f"{path} is no folder.")
    try:
        return FolderSource(path, writable=for_writing)
    except OSError as error:
        raise InputError(f"{path} cannot be opened: {error.strerror}.") from error
