"""Files that must be there after a power cut: written beside, flushed, then renamed into place."""

import errno
import os
from pathlib import Path

from mending.model import InputError


def read_file(path: Path, limit: int) -> bytes:
    """At most `limit` bytes of a file on this machine. Raises InputError."""
    try:
        with path.open("rb") as file:
            return file.read(limit)
    except IsADirectoryError as error:
        raise InputError(f"{path} is a folder, and this needs a file.") from error
    except (OSError, ValueError) as error:
        raise _translated(path, error) from error


def read_folder(path: Path) -> list[Path]:
    """What a folder holds, sorted by name; empty when there is no such folder. Raises
    InputError.
    """
    try:
        return sorted(path.iterdir())
    except FileNotFoundError:
        return []
    except OSError as error:
        raise _translated(path, error) from error


def write_durably(path: Path, data: bytes) -> None:
    """Replace or make a file so that a crash leaves the old one or the new one, whole. Raises
    InputError.
    """
    beside = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        with beside.open("wb") as file:
            file.write(data)
            file.flush()
            os.fsync(file.fileno())
        beside.replace(path)
        flush_folder(path.parent)
    except OSError as error:
        beside.unlink(missing_ok=True)
        raise _translated(path, error) from error


def append_durably(path: Path, line: bytes) -> None:
    """Add one line to the end of a file and wait until it is on the medium. Raises InputError."""
    try:
        with path.open("ab") as file:
            file.write(line)
            file.flush()
            os.fsync(file.fileno())
    except OSError as error:
        raise _translated(path, error) from error


def make_folder(path: Path) -> None:
    """Make a folder, and those above it; one that is there stays. Raises InputError."""
    try:
        path.mkdir(parents=True, exist_ok=True)
    except (OSError, ValueError) as error:
        raise _translated(path, error) from error


def make_folder_durably(path: Path, files: dict[str, bytes]) -> None:
    """Make a folder with these files in it, all at once: after a crash it is there whole or not at
    all.

    Raises:
        InputError: it cannot be made, or the name is taken.
    """
    beside = path.with_name(f".{path.name}.{os.getpid()}.new")
    try:
        beside.mkdir(parents=True)
        for name, data in files.items():
            (beside / name).parent.mkdir(parents=True, exist_ok=True)
            write_durably(beside / name, data)
        flush_folder(beside)
        beside.rename(path)
        flush_folder(path.parent)
    except OSError as error:
        _remove(beside, files)
        raise _translated(path, error) from error


def _remove(folder: Path, files: dict[str, bytes]) -> None:
    for name in files:
        (folder / name).unlink(missing_ok=True)
    for inside in sorted((path for path in folder.rglob("*") if path.is_dir()), reverse=True):
        inside.rmdir()
    if folder.is_dir():
        folder.rmdir()


def flush_folder(path: Path) -> None:
    """Wait until the names in a folder are on the medium. Raises OSError."""
    fd = os.open(path, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def _translated(path: Path, error: OSError | ValueError) -> InputError:
    if isinstance(error, ValueError):
        return InputError(f"{str(path)!r} is not a usable path.")
    if error.errno in {errno.EEXIST, errno.ENOTEMPTY}:
        return InputError(
            f"{path} is already there.", "Choose another name, or move the old one away."
        )
    if error.errno in {errno.EACCES, errno.EPERM}:
        return InputError(f"{path} may not be used by this account.", "Check who owns it.")
    return InputError(f"{path} cannot be used: {error.strerror or error}.")
