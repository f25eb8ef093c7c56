"""Files that must be there after a power cut: written beside, flushed, then renamed into place.

A name is on the medium only when the folder that it is in was flushed, and that folder's own name
only when the one above was. So every folder that is made here is flushed into the one above it
before anything is put in it. Files and folders are readable by their owner alone.
"""

import errno
import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

from mending.model import InputError
from mending.source.plain_file import open_plain

_MODE, _FOLDER_MODE = 0o600, 0o700
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


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
        fd = os.open(
            path, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC, _MODE
        )
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


def flush_folder(path: Path) -> None:
    """Wait until the names in a folder are on the medium.

    Raises:
        OSError
    """
    fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def beside(path: Path) -> Path:
    """A name in the same folder that nobody can have planted."""
    return path.with_name(f".{path.name[:80]}.{os.urandom(8).hex()}.new")


def _remove(folder: Path) -> None:
    """Take a folder away as far as that goes; what is left of it has a name that nobody reads."""
    import shutil  # noqa: PLC0415 - lazy, for it is slow to load

    shutil.rmtree(folder, ignore_errors=True)


def _write_new(path: Path, data: bytes) -> None:
    fd = os.open(path, _NEW, _MODE)
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
