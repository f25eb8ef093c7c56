"""One new file or link in a folder that is held open: made under a random name, with all that it is
to have, and so fit to be renamed into its place.
"""

import os
import stat
from collections.abc import Iterator
from contextlib import contextmanager, suppress

from mending.model import FileAttributes

_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC


def random_name() -> str:
    """A name that nobody can have planted."""
    return f".mending-{os.urandom(8).hex()}"


@contextmanager
def new_file(
    handle: int, data: bytes, attributes: FileAttributes | None
) -> Iterator[tuple[int, str]]:
    """A file of a random name, on the medium; its name is gone at the end if it still has it."""
    beside = random_name()
    fd = os.open(beside, _NEW, 0o600, dir_fd=handle)
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
