"""A mounted tree: the files of an installed system below a folder, read and replaced without ever
leaving it.
"""

import errno
import os
import secrets
import stat
import weakref
from collections.abc import Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path

import msgspec

from mending.model import Change, FileAttributes, FileChange, InputError, RefusedError, clean_text
from mending.model.limits import FOLDER_ROWS, LARGEST_CHANGE
from mending.source import devices
from mending.source.base import TargetKind, TreeRow
from mending.source.devices import NUMBERLESS, PARTS, is_other_mount, type_of
from mending.source.output import (
    attributes_of,
    make_file_durably,
    new_file,
    put_link,
    random_name,
    read_file,
    set_mode,
)
from mending.source.portable import (
    AS_IT_IS,
    FOLDER,
    HAS_HANDLES,
    NO_LINK,
    WAITS_FOR_NOBODY,
    refuse_without,
)
from mending.source.targets import TreeTarget

# What lies beneath a folder, reached by handles alone, so that nothing on it leads out of it.
#
# The folder is held open. A path is walked from there one name at a time: each folder is opened
# relative to the handle of the one before, and the kernel refuses a link in the same call. Whatever
# the names on the way are turned into meanwhile, a handle never lies outside. Another file system
# is entered only where an installed system has parts of its own mounted (`PARTS`); a device folder
# or a process folder that somebody mounted into the tree counts as empty.
#
# A path could also be checked first and opened afterwards; then whoever changes it in between
# decides what is opened. `openat2(2)` with RESOLVE_BENEATH and RESOLVE_NO_SYMLINKS does the same
# walk in one call; Python does not offer it, and the walk needs no other permission.


_FOLDER = FOLDER | NO_LINK
_FILE = os.O_RDONLY | NO_LINK | WAITS_FOR_NOBODY
_MOST_NAMES = 100_000
"""Names of one folder that are looked at for further names of a file."""


class Beneath:
    """Files beneath one folder. All methods raise OSError; paths are from its top.

    Args:
        top: the folder; a link to it is followed, for the person named it.
    """

    def __init__(self, top: Path) -> None:
        self._top = os.open(top, FOLDER)
        self.close = weakref.finalize(self, os.close, self._top)

    def is_same_folder(self, other: str) -> bool:
        """Whether the top is also reached by another path."""
        with suppress(OSError):
            return os.path.samestat(os.fstat(self._top), Path(other).stat())
        return False

    @property
    def fd(self) -> int:
        """The handle of the top."""
        return self._top

    @contextmanager
    def folder(self, path: str, *, make: bool = False) -> Iterator[int]:
        """A handle of a folder.

        Args:
            make: folders that are not there are made, each name on the medium before the next.
        """
        names, done = _names(path), ""
        handle = os.open(".", _FOLDER, dir_fd=self._top)
        try:
            for name in names:
                done = f"{done}/{name}" if done else name
                above, handle = handle, _step(handle, name, make)
                other = done not in PARTS and is_other_mount(above, handle)
                os.close(above)
                if other:
                    # what is mounted there is not of this tree, and hides what may be
                    raise FileNotFoundError(errno.ENOENT, "another file system is mounted there")
            yield handle
        finally:
            os.close(handle)

    @contextmanager
    def beside(self, path: str, *, make: bool = False) -> Iterator[tuple[int, str]]:
        """A handle of the folder that a file is in, and its name there."""
        names = _names(path)
        if not names:
            raise OSError(errno.EISDIR, "a folder, and this needs a file")
        with self.folder("/".join(names[:-1]), make=make) as handle:
            yield handle, names[-1]

    def is_mounted_over(self, path: str) -> bool:
        """Whether a folder is there, and another file system that is no part of the tree is mounted
        over it.
        """
        try:
            with self.folder(path):
                return False
        except FileNotFoundError:
            info = self.status(path) if _names(path) else None
            return info is not None and stat.S_ISDIR(info.st_mode)

    def folder_number(self, path: str) -> int:
        """The number that the file system gives a folder; 0 where it makes numbers up anew at each
        mount, as those without inodes do.
        """
        with self.folder(path) as handle:
            return 0 if type_of(handle) in NUMBERLESS else os.fstat(handle).st_ino

    def may_change(self, path: str) -> bool:
        """Whether this account may make or replace a name: of the innermost folder on the way that
        is there.
        """
        names = _names(path)[:-1]
        for count in range(len(names), -1, -1):
            with suppress(FileNotFoundError), self.folder("/".join(names[:count])) as handle:
                return os.access(".", os.W_OK | os.X_OK, dir_fd=handle, effective_ids=True)
        return False

    def missing_folders(self, path: str) -> tuple[str, ...]:
        """The folders on the way to a file that are not there, the outermost first."""
        names, missing = _names(path)[:-1], []
        for count in range(1, len(names) + 1):
            folder = "/".join(names[:count])
            try:
                with self.folder(folder):
                    pass
            except FileNotFoundError:
                missing.append(f"/{folder}")
        return tuple(missing)

    def status(self, path: str) -> os.stat_result | None:
        """What a name stands for, a link not followed; None where it is not there."""
        try:
            with self.beside(path) as (handle, name):
                return os.stat(name, dir_fd=handle, follow_symlinks=False)
        except FileNotFoundError:
            return None

    def attributes(self, path: str) -> FileAttributes:
        """Of a file or link that is there."""
        with self.beside(path) as (handle, name):
            info = os.stat(name, dir_fd=handle, follow_symlinks=False)
            if stat.S_ISLNK(info.st_mode):
                return FileAttributes(
                    0o777, info.st_uid, info.st_gid, info.st_mtime_ns, is_link=True
                )
            fd = os.open(name, _FILE, dir_fd=handle)
            try:
                return attributes_of(fd)
            finally:
                os.close(fd)

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file; nothing of what is no plain file."""
        with self.beside(path) as (handle, name):
            fd = os.open(name, _FILE, dir_fd=handle)
        with os.fdopen(fd, "rb") as file:
            info = os.fstat(fd)
            return file.read(min(length, info.st_size)) if stat.S_ISREG(info.st_mode) else b""

    def link(self, path: str) -> str:
        """What a link points at."""
        with self.beside(path) as (handle, name):
            return os.readlink(name, dir_fd=handle)

    def names_elsewhere(self, path: str) -> int:
        """How many names a file has that are not in its own folder."""
        info = self.status(path)
        if info is None or info.st_nlink < 2:
            return 0
        with self.beside(path) as (handle, name):
            return info.st_nlink - 1 - len(_twins(handle, name, info))

    def replace(
        self, path: str, data: bytes, attributes: FileAttributes | None, over_link: bool = False
    ) -> None:
        """Put a file, so that a power cut leaves the old one or the new one, whole; its further
        names in the same folder go with it.

        The new content lies under a random name that nobody can have planted, made by a call that
        refuses one that is there.

        Args:
            attributes: of the new file; None for those of the file that was there.
            over_link: a link that stands there is replaced; else it is an error.
        """
        with self.beside(path, make=True) as (handle, name):
            old = None
            with suppress(FileNotFoundError):
                old = os.stat(name, dir_fd=handle, follow_symlinks=False)
            if attributes is not None and attributes.is_link:
                put_link(handle, name, data, attributes)
                return
            if over_link and old is not None and stat.S_ISLNK(old.st_mode):
                old = None
            if old is not None and not stat.S_ISREG(old.st_mode):
                raise OSError(errno.EINVAL, "no plain file")
            twins = _twins(handle, name, old) if old is not None and old.st_nlink > 1 else []
            if old is not None and attributes is None:
                attributes = msgspec.structs.replace(self.attributes(path), modified_ns=None)
            with new_file(handle, data, attributes) as (fd, beside):
                os.rename(beside, name, src_dir_fd=handle, dst_dir_fd=handle)
                for twin in twins:
                    again = random_name()
                    os.link(name, again, src_dir_fd=handle, dst_dir_fd=handle)
                    os.rename(again, twin, src_dir_fd=handle, dst_dir_fd=handle)
                os.fsync(fd)
            os.fsync(handle)

    def rewrite(self, path: str, data: bytes, mode: int | None) -> None:
        """Give a file another content, and perhaps other permission bits; all else that it has, and
        all its names, stay. A power cut can leave a part of it: only where nothing is written to a
        medium.
        """
        with self.beside(path) as (handle, name):
            fd = os.open(name, os.O_WRONLY | NO_LINK | AS_IT_IS, dir_fd=handle)
            try:
                if not stat.S_ISREG(os.fstat(fd).st_mode):
                    raise OSError(errno.EINVAL, "no plain file")
                os.ftruncate(fd, 0)
                view = memoryview(data)
                while view:
                    view = view[os.write(fd, view) :]
                if mode is not None and stat.S_IMODE(os.fstat(fd).st_mode) != mode:
                    set_mode(fd, mode)
                os.fsync(fd)
            finally:
                os.close(fd)

    def remove(self, path: str, folders: tuple[str, ...] = ()) -> None:
        """Take a file away, and then those of the folders that are empty, the innermost first."""
        with suppress(FileNotFoundError), self.beside(path) as (handle, name):
            os.unlink(name, dir_fd=handle)
            os.fsync(handle)
        for folder in reversed(folders):
            try:
                with self.beside(folder) as (handle, name):
                    os.rmdir(name, dir_fd=handle)
                    os.fsync(handle)
            except OSError as error:
                if error.errno not in {errno.ENOENT, errno.ENOTEMPTY, errno.EEXIST}:
                    raise


def _names(path: str) -> list[str]:
    names = [part for part in path.split("/") if part not in {"", "."}]
    if ".." in names or "\0" in path:
        raise OSError(errno.EINVAL, f"a path that leaves the folder: {clean_text(path, 80)}")
    return names


def _step(handle: int, name: str, make: bool) -> int:
    try:
        return os.open(name, _FOLDER, dir_fd=handle)
    except FileNotFoundError:
        if not make:
            raise
    os.mkdir(name, 0o755, dir_fd=handle)
    os.fsync(handle)
    return os.open(name, _FOLDER, dir_fd=handle)


def _twins(handle: int, name: str, info: os.stat_result) -> list[str]:
    """The further names of a file in its own folder."""
    found = []
    with os.scandir(handle) as rows:
        for number, row in enumerate(rows):
            if number >= _MOST_NAMES:
                break
            if row.inode() == info.st_ino and row.name != name:
                found.append(row.name)
    return found


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
            devices.lock(self._beneath.fd, path)

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
    refuse_without(HAS_HANDLES, "Reading a mounted system")
    try:
        return FolderSource(path, writable=for_writing)
    except OSError as error:
        raise InputError(f"{path} cannot be opened: {error.strerror}.") from error


# The key of this machine: undo points, and what cases name outside of themselves, are sealed with
# it, so that a folder from elsewhere cannot make us write or read what it likes.


_KEY_BYTES = 32


def machine_key(path: Path) -> bytes:
    """The key of this machine, made at its first use; readable by its owner alone. Raises
    InputError.
    """
    if not path.exists():
        make_file_durably(path, secrets.token_bytes(_KEY_BYTES))
    key = read_file(path, _KEY_BYTES)
    if len(key) < _KEY_BYTES:
        raise InputError(f"{path} is no key.", "Move it away; a new one is made.")
    return key


def known_key(path: Path) -> bytes | None:
    """The key of this machine; None where it has sealed nothing yet. Raises InputError."""
    return machine_key(path) if path.exists() else None
