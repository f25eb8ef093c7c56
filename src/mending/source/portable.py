"""What an operating system may lack: flags of `open`, reading at a place, locks on handles, limits.

The part of the program that needs no disk (cases, questions, plans, crash records, reports, and
images, which are files) runs wherever Python does. Whatever a system may not have is asked for here
and nowhere else; a flag that it lacks is 0, and what cannot be done without it is refused in one
sentence (`refuse_without`), not tried in some weaker way.
"""

import os
import threading
from importlib import import_module
from pathlib import Path
from typing import Any

from mending.model import RefusedError


def _flags(*names: str) -> int:
    return sum(getattr(os, f"O_{name}", 0) for name in names)


AS_IT_IS = _flags("CLOEXEC", "BINARY")
"""Bytes as they are on the medium, by a handle that no child inherits."""
NO_LINK = _flags("NOFOLLOW")
WAITS_FOR_NOBODY = _flags("NONBLOCK", "NOCTTY") | AS_IT_IS
FOLDER = os.O_RDONLY | _flags("DIRECTORY") | AS_IT_IS
NEW_FILE = os.O_CREAT | os.O_EXCL | NO_LINK | AS_IT_IS

_HAS_LOCKS = True
try:
    import fcntl
except ModuleNotFoundError:
    _HAS_LOCKS = False
_PLACE = threading.Lock()
"""A handle has one place; held while that is set and read from."""
HAS_HANDLES = hasattr(os, "O_DIRECTORY") and os.open in os.supports_dir_fd
"""Whether a path can be walked by handles, which no link leads astray."""
HAS_DEVICES = _HAS_LOCKS and hasattr(os, "pwrite") and hasattr(os, "preadv")
"""Whether disks can be held and written at a place."""


def refuse_without(has: bool, what: str) -> None:
    """Raise RefusedError where this system lacks what `what` needs."""
    if not has:
        raise RefusedError(
            f"{what} needs an operating system with POSIX calls, which this one lacks.",
            "Take the disk to a PC with Linux for that; cases can be taken along.",
        )


def lock_handle(fd: int) -> None:
    """Hold an open file or device for this process alone, until it is closed.

    Raises:
        BlockingIOError: another process holds it. OSError: there are no locks here.
    """
    if not _HAS_LOCKS:
        raise OSError("no locks on handles")
    fcntl.flock(fd, fcntl.LOCK_EX | fcntl.LOCK_NB)


def ask_device(fd: int, request: int, argument: Any) -> Any:
    """The answer of a driver (`ioctl`).

    Raises:
        OSError
    """
    if not _HAS_LOCKS:
        raise OSError("no devices to ask")
    return fcntl.ioctl(fd, request, argument)


def read_at(fd: int, length: int, offset: int) -> bytes:
    """At most so many bytes from a place; elsewhere than on POSIX by one thread at a time.

    Raises:
        OSError
    """
    if hasattr(os, "pread"):
        return os.pread(fd, length, offset)
    with _PLACE:
        os.lseek(fd, offset, os.SEEK_SET)
        return os.read(fd, length)


def read_into(fd: int, buffer: memoryview, offset: int) -> int:
    """As many bytes from a place as fit, or are there; returns how many.

    Raises:
        OSError
    """
    if hasattr(os, "preadv"):
        return os.preadv(fd, [buffer], offset)
    data = read_at(fd, len(buffer), offset)
    buffer[: len(data)] = data
    return len(data)


def data_at(fd: int, offset: int, size: int) -> tuple[int, int]:
    """Beginning and end of the next stretch of a sparse file that is no hole; all that is left
    where the system tells nothing of holes.

    Raises:
        OSError: ENXIO where nothing but a hole is left.
    """
    if not hasattr(os, "SEEK_DATA"):
        return offset, size
    start = os.lseek(fd, offset, os.SEEK_DATA)
    return start, min(os.lseek(fd, start, os.SEEK_HOLE), size)


def forget_cached(fd: int, start: int = 0, length: int = 0) -> None:
    """Let the system forget what it keeps of a file, so that it is read from the medium again.

    Raises:
        OSError
    """
    if hasattr(os, "posix_fadvise"):
        os.posix_fadvise(fd, start, length, os.POSIX_FADV_DONTNEED)


def flush_folder(path: Path) -> None:
    """Wait until the names in a folder are on the medium, where a folder can be opened for that.

    Raises:
        OSError
    """
    if not hasattr(os, "O_DIRECTORY"):
        return
    fd = os.open(path, FOLDER)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def memory_taken() -> int:
    """The most memory that this process has taken, in bytes; 0 where the system does not tell."""
    try:
        resource: Any = import_module("resource")
    except ModuleNotFoundError:
        return 0
    return int(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss) << 10


def keep_no_memory() -> None:
    """No crash of this process leaves its memory in a file, where that can be said."""
    try:
        resource: Any = import_module("resource")
    except ModuleNotFoundError:
        return
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
