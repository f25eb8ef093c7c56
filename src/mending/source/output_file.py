"""The one way of everything that a command writes for a person: figures, reports, bundles, healthy
copies.

What is there stays: a name that is taken is refused, unless the person says that it may go
(`--force`) or Mending wrote it for the same purpose. Whatever was said, no link is followed, and
nothing is written over the target of the command, what belongs to it, a case, or anything but a
plain file. The new file is made beside the name, flushed, and then gets it, so a full disk or a
power cut leaves what was there.
"""

import fcntl
import glob
import os
import stat
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import BinaryIO

import msgspec

from mending.model import InputError, RefusedError
from mending.source.drive_health import lies_on
from mending.source.durable_files import beside, flush_folder, make_folder, translated
from mending.source.plain_file import open_plain

_NEW = os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC
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
            with os.fdopen(os.open(new, _NEW, 0o600), "w+b") as file:
                with suppress(OSError):  # a file system without locks keeps what a kill leaves
                    fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
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
            handle = os.open(older, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
            try:
                fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
                older.unlink()
            finally:
                os.close(handle)


def _head(path: Path) -> bytes:
    try:
        with open_plain(path, links=False) as file:
            return file.read(_HEAD)
    except OSError as error:
        raise translated(path, error) from error
