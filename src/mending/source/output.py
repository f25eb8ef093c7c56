"""The one way of everything that a command writes for a person: figures, reports, bundles, healthy
copies.

What is there stays: a name that is taken is refused, unless the person says that it may go
(`--force`) or Mending wrote it for the same purpose. Whatever was said, no link is followed, and
nothing is written over the target of the command, what belongs to it, a case, or anything but a
plain file. The new file is made beside the name, flushed, and then gets it, so a full disk or a
power cut leaves what was there.
"""

import errno
import glob
import os
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

import msgspec

from mending.model import FileAttributes, InputError, RefusedError
from mending.source.devices import lies_on
from mending.source.plain_file import open_plain
from mending.source.portable import AS_IT_IS, NEW_FILE, NO_LINK, flush_folder, lock_handle

# One new file or link in a folder that is held open: made under a random name, with all that it is
# to have, and so fit to be renamed into its place.


def random_name() -> str:
    """A name that nobody can have planted."""
    return f".mending-{os.urandom(8).hex()}"


@contextmanager
def new_file(
    handle: int, data: bytes, attributes: FileAttributes | None
) -> Iterator[tuple[int, str]]:
    """A file of a random name, on the medium; its name is gone at the end if it still has it."""
    beside = random_name()
    fd = os.open(beside, os.O_WRONLY | NEW_FILE, 0o600, dir_fd=handle)
    try:
        view = memoryview(data)
        while view:
            view = view[os.write(fd, view) :]
        _give(fd, attributes)
        os.fsync(fd)
        yield fd, beside
    finally:
        os.close(fd)
        with suppress(FileNotFoundError):
            os.unlink(beside, dir_fd=handle)


def put_link(handle: int, name: str, data: bytes, attributes: FileAttributes) -> None:
    """Put a link in the place of whatever stands there."""
    beside = random_name()
    os.symlink(os.fsdecode(data), beside, dir_fd=handle)
    try:
        info = os.stat(beside, dir_fd=handle, follow_symlinks=False)
        if (info.st_uid, info.st_gid) != (attributes.owner, attributes.group):
            os.chown(
                beside, attributes.owner, attributes.group, dir_fd=handle, follow_symlinks=False
            )
        if attributes.modified_ns is not None:
            times = (attributes.modified_ns, attributes.modified_ns)
            os.utime(beside, ns=times, dir_fd=handle, follow_symlinks=False)
        os.rename(beside, name, src_dir_fd=handle, dst_dir_fd=handle)
        os.fsync(handle)
    finally:
        with suppress(FileNotFoundError):
            os.unlink(beside, dir_fd=handle)


def _give(fd: int, attributes: FileAttributes | None) -> None:
    """Owner first, for that takes the set-user-ID bit and capabilities away; then mode, extended
    attributes and, last, the date.
    """
    if attributes is None:
        set_mode(fd, 0o644)
        return
    has = os.fstat(fd)
    if (has.st_uid, has.st_gid) != (attributes.owner, attributes.group):
        os.fchown(fd, attributes.owner, attributes.group)
    set_mode(fd, attributes.mode)
    for name, value in attributes.extended:
        os.setxattr(fd, name, value)
    if attributes.modified_ns is not None:
        os.utime(fd, ns=(attributes.modified_ns, attributes.modified_ns))


def set_mode(fd: int, mode: int) -> None:
    """Set permission bits. A file system without modes may refuse; what it shows then is what every
    file of it has.
    """
    try:
        os.fchmod(fd, mode)
    except PermissionError:
        if stat.S_IMODE(os.fstat(fd).st_mode) != mode:
            raise


def attributes_of(fd: int) -> FileAttributes:
    """What an opened file has beside its bytes."""
    info = os.fstat(fd)
    extended = []
    with suppress(OSError):  # a file system without them
        for name in sorted(os.listxattr(fd)):
            extended.append((name, os.getxattr(fd, name)))
    return FileAttributes(
        stat.S_IMODE(info.st_mode), info.st_uid, info.st_gid, info.st_mtime_ns, tuple(extended)
    )


# Files that must be there after a power cut: written beside, flushed, then renamed into place.
#
# A name is on the medium only when the folder that it is in was flushed, and that folder's own name
# only when the one above was. So every folder that is made here is flushed into the one above it
# before anything is put in it. Files and folders are readable by their owner alone.


_MODE, _FOLDER_MODE = 0o600, 0o700


def read_file(path: Path, limit: int, *, links: bool = True) -> bytes:
    """At most `limit` bytes of a plain file on this machine.

    Args:
        links: whether the name itself may be a link to one.

    Raises:
        InputError
    """
    try:
        with open_plain(path, links=links) as file:
            return file.read(limit)
    except (OSError, ValueError) as error:
        raise translated(path, error) from error


def read_folder(path: Path) -> list[Path]:
    """What a folder holds, sorted by name; empty when there is no such folder. Raises
    InputError.
    """
    try:
        return sorted(path.iterdir())
    except FileNotFoundError:
        return []
    except OSError as error:
        raise translated(path, error) from error


def write_durably(path: Path, data: bytes) -> None:
    """Replace or make a file so that a crash leaves the old one or the new one, whole. Raises
    InputError.
    """
    new = beside(path)
    try:
        _write_new(new, data)
        new.replace(path)
        flush_folder(path.parent)
    except OSError as error:
        with suppress(OSError):
            new.unlink(missing_ok=True)
        raise translated(path, error) from error


def make_file_durably(path: Path, data: bytes) -> None:
    """Make a file, unless there is one of that name: of several who try at once the first is right.

    Raises:
        InputError
    """
    new = beside(path)
    try:
        _make_folders(path.parent)
        _write_new(new, data)
        with suppress(FileExistsError):
            os.link(new, path)
        new.unlink()
        flush_folder(path.parent)
    except OSError as error:
        with suppress(OSError):
            new.unlink(missing_ok=True)
        raise translated(path, error) from error


def append_durably(path: Path, line: bytes) -> None:
    """Add one line to the end of a file and wait until it is on the medium.

    Raises:
        InputError
    """
    try:
        fd = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | NO_LINK | AS_IT_IS, _MODE)
        try:
            _write_all(fd, line)
            os.fsync(fd)
        finally:
            os.close(fd)
    except OSError as error:
        raise translated(path, error) from error


def make_folder(path: Path) -> None:
    """Make a folder, and those above it, each on the medium before the next; one that is there
    stays.

    Raises:
        InputError
    """
    try:
        _make_folders(path)
    except (OSError, ValueError) as error:
        raise translated(path, error) from error


def make_folder_durably(path: Path, files: dict[str, bytes]) -> None:
    """Make a folder with these files in it, all at once: after a crash it is there whole or not at
    all.

    Raises:
        InputError: it cannot be made, or the name is taken.
    """
    with folder_made_durably(path) as new:
        for name, data in files.items():
            _make_folders((new / name).parent)
            _write_new(new / name, data)
        for folder in {(new / name).parent for name in files}:
            flush_folder(folder)


@contextmanager
def folder_made_durably(path: Path) -> Iterator[Path]:
    """A folder to be filled under another name; it has its own once all in it is on the medium, so
    after a crash it is there whole or not at all.

    Raises:
        InputError: it cannot be made, or the name is taken.
    """
    new = beside(path)
    try:
        _make_folders(new)
        yield new
        flush_folder(new)
        if path.exists():
            raise FileExistsError(errno.EEXIST, "already there")
        new.rename(path)
        flush_folder(path.parent)
    except OSError as error:
        raise translated(path, error) from error
    finally:
        if new.exists():
            _remove(new)


def remove_folder(path: Path) -> None:
    """Take a folder of ours away; a crash leaves it whole or gone.

    Raises:
        InputError
    """
    new = beside(path)
    try:
        path.rename(new)
        flush_folder(path.parent)
        _remove(new)
    except OSError as error:
        raise translated(path, error) from error


def beside(path: Path) -> Path:
    """A name in the same folder that nobody can have planted."""
    return path.with_name(f".{path.name[:80]}.{os.urandom(8).hex()}.new")


def _remove(folder: Path) -> None:
    """Take a folder away as far as that goes; what is left of it has a name that nobody reads."""
    import shutil  # noqa: PLC0415 - lazy, for it is slow to load

    shutil.rmtree(folder, ignore_errors=True)


def _write_new(path: Path, data: bytes) -> None:
    fd = os.open(path, os.O_WRONLY | NEW_FILE, _MODE)
    try:
        _write_all(fd, data)
        os.fsync(fd)
    finally:
        os.close(fd)


def _write_all(fd: int, data: bytes) -> None:
    view = memoryview(data)
    while view:
        view = view[os.write(fd, view) :]


def _make_folders(path: Path) -> None:
    if path.is_dir():
        return
    _make_folders(path.parent)
    with suppress(FileExistsError):
        path.mkdir(_FOLDER_MODE)
    flush_folder(path.parent)


def translated(path: Path, error: OSError | ValueError) -> InputError:
    """An error of the operating system in our words."""
    if isinstance(error, ValueError):
        return InputError(f"{str(path)!r} is not a usable path.")
    if error.errno in {errno.EEXIST, errno.ENOTEMPTY}:
        return InputError(
            f"{path} is already there.", "Choose another name, or move the old one away."
        )
    if error.errno in {errno.EACCES, errno.EPERM}:
        return InputError(f"{path} may not be used by this account.", "Check who owns it.")
    return InputError(f"{path} cannot be used: {error.strerror or error}.")


_CASE_FILE, _RECORD = "case.json", ".reading"
_MADE_SECONDS = 60.0
"""So long may a file be there before who makes it has its lock."""
_HEAD = 4096
"""Bytes by which a file of ours is told."""


class Output(msgspec.Struct, frozen=True):
    """A file that a command will write; made by `settle_output`, before the work is done.

    Attributes:
        never: paths that are not written over, whatever was said.
        force: the person said that what is there may go.
        is_ours: tells from the first bytes of a file whether it may go without being asked.
    """

    path: Path
    never: tuple[str, ...]
    force: bool
    is_ours: Callable[[bytes], bool] | None

    def write(self, data: bytes) -> None:
        """Put the file there. Raises as `opened`."""
        with self.opened() as file:
            file.write(data)

    @contextmanager
    def opened(self) -> Iterator[BinaryIO]:
        """The file, to be filled; it has its name once it is whole on the medium.

        Raises:
            InputError: it cannot be written. RefusedError: its name was taken meanwhile.
        """
        make_folder(self.path.absolute().parent)
        _clear_left_behind(self.path)
        new = beside(self.path)
        try:
            with os.fdopen(os.open(new, os.O_RDWR | NEW_FILE, 0o600), "w+b") as file:
                with suppress(OSError):  # a file system without locks keeps what a kill leaves
                    lock_handle(file.fileno())
                yield file
                file.flush()
                os.fsync(file.fileno())
            if self.replaces():
                new.replace(self.path)
            else:
                os.link(new, self.path)
            flush_folder(self.path.absolute().parent)
        except OSError as error:
            raise translated(self.path, error) from error
        finally:
            with suppress(OSError):
                new.unlink(missing_ok=True)

    def replaces(self) -> bool:
        """Whether something is there that may go.

        Raises:
            RefusedError: something is there that may not. InputError: the name cannot be used.
        """
        try:
            info = self.path.lstat()
        except FileNotFoundError:
            return False
        except (OSError, ValueError) as error:
            raise translated(self.path, error) from error
        if not stat.S_ISREG(info.st_mode):
            raise RefusedError(
                f"{self.path} is there already and is no plain file.", "Choose another name."
            )
        for path in self.never:
            with suppress(OSError, ValueError):
                if os.path.samestat(Path(path).stat(), info):
                    raise RefusedError(
                        f"{self.path} is what this command works on.", "Choose another name."
                    )
        if self.is_ours is not None and self.is_ours(_head(self.path)):
            return True
        if any((folder / _CASE_FILE).exists() for folder in self.path.absolute().parents):
            raise RefusedError(f"{self.path} belongs to a case.", "Choose another name.")
        if not self.force:
            raise RefusedError(
                f"{self.path} is there already.",
                "Choose another name, move it away, or add --force to write over it.",
            )
        return True


def settle_output(
    path: str | Path,
    *,
    force: bool = False,
    never: Sequence[str] = (),
    is_ours: Callable[[bytes], bool] | None = None,
) -> Output:
    """A file that is to be written, checked before the work is done.

    Args:
        never: targets of the command; the reading record of each is meant with it.

    Raises:
        RefusedError: something is there that may not go.
        InputError: the name cannot be used.
    """
    both = tuple(name for each in never for name in (each, f"{each}{_RECORD}"))
    output = Output(Path(path), both, force, is_ours)
    if output.path.is_dir():
        raise InputError(f"{path} is a folder, and this needs a file.")
    output.replaces()
    for target in never:
        _refuse_inside(Path(path), target)
    return output


def _refuse_inside(path: Path, target: str) -> None:
    """What is read stays as it is: nothing is put into a tree or onto a drive that is a target."""
    place = Path(target)
    if place.is_dir() and not (place / _CASE_FILE).exists():
        inside = path.absolute().parent.resolve()
        if place.resolve() in {inside, *inside.parents}:
            raise RefusedError(f"{path} would lie in {target} itself.", "Name a place elsewhere.")
    elif place.is_block_device() and lies_on(target, str(path)):
        raise RefusedError(f"{path} would lie on {target} itself.", "Name a place elsewhere.")


def _clear_left_behind(path: Path) -> None:
    """Take away what a program left beside this name that was killed: whoever still writes holds a
    lock, and has one within moments.
    """
    for older in path.parent.glob(f".{glob.escape(path.name[:80])}.*.new"):
        with suppress(OSError):
            if time.time() - older.lstat().st_mtime < _MADE_SECONDS or not older.is_file():
                continue
            handle = os.open(older, os.O_RDONLY | NO_LINK | AS_IT_IS)
            try:
                lock_handle(handle)
                older.unlink()
            finally:
                os.close(handle)


def _head(path: Path) -> bytes:
    try:
        with open_plain(path, links=False) as file:
            return file.read(_HEAD)
    except OSError as error:
        raise translated(path, error) from error
