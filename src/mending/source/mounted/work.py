"""The three processes of a volume that is changed by its driver; see the room's own words."""

import contextlib
import fcntl
import os
import shutil
import signal
import struct
import tempfile
import time
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import IO, NoReturn, Self

import msgspec

from mending.model import InputError, MendingError, RefusedError
from mending.source.folder import FolderSource
from mending.source.mounted import namespace
from mending.source.mounted.copy_on_write import CopyOnWrite, Read
from mending.source.mounted.served_file import NAME, load_fuse, serve

ChangedRange = tuple[int, bytes]
"""Offset in the volume, and the bytes that stand there afterwards."""
_HEAD = struct.Struct("<QQ")
_END = _HEAD.pack(2**64 - 1, 0)
_FOLDER, _MOST_FOLDERS, _MADE_SECONDS = "mending-mount-", 100, 60.0
"""How our folders begin, how many left ones are looked at, and how long one may be without a lock
after it was made.
"""
_PATIENCE = 20.0
"""Seconds until the file has to be there."""


class VolumeToMount(msgspec.Struct, frozen=True):
    """What is mounted.

    Attributes:
        name: for sentences.
        read: reads of the volume.
        size: its bytes.
        drivers: command lines of the programs that mount it, the preferred first; where one fails
            the next is tried on the volume as it was. `{file}` and `{folder}` stand for the two
            places.
    """

    name: str
    read: Read
    size: int
    drivers: tuple[tuple[str, ...], ...]


class _Told(msgspec.Struct):
    """How a worker ended badly."""

    says: str
    hint: str
    refused: bool


def work_on(volume: VolumeToMount, act: Callable[[FolderSource], None]) -> list[ChangedRange]:
    """Mount a volume, let something change its files, unmount it.

    Args:
        act: is run in another process; nothing that it remembers comes back.

    Raises:
        RefusedError: this account may not mount, there is no driver, or the driver refuses.
        InputError: a file could not be written.
    """
    if os.geteuid() != 0:
        raise RefusedError(
            f"{volume.name} can be mounted by the administrator only.",
            "Run the same command as root.",
        )
    load_fuse()  # before there are other processes
    fault: MendingError | None = None
    for words in volume.drivers:
        if not namespace.is_at_hand(words[0]):
            continue
        try:
            return _with_driver(volume, words, act)
        except MendingError as error:
            fault = error
    if fault is not None:
        raise fault
    raise RefusedError(f"There is no driver here for {volume.name}.", "Mount it elsewhere.")


def _with_driver(
    volume: VolumeToMount, words: tuple[str, ...], act: Callable[[FolderSource], None]
) -> list[ChangedRange]:
    with contextlib.ExitStack() as stack:
        home = Path(stack.enter_context(_own_folder()))
        (home / "file").mkdir()
        (home / "tree").mkdir()
        told = stack.enter_context(tempfile.TemporaryFile())
        ranges = stack.enter_context(tempfile.TemporaryFile())
        server = stack.enter_context(
            _Child(lambda: _serve(volume, home / "file", ranges), told, volume.name)
        )
        _wait_for(server, home / "file" / NAME, volume, told)
        worker = stack.enter_context(
            _Child(
                lambda: _mount_and_act(volume, words, act, home, server.number), told, volume.name
            )
        )
        worker.wait()
        _raise_fault(told)
        os.kill(server.number, signal.SIGTERM)  # it stops serving, and gives out what was written
        server.wait()
        return _answer(volume, told, ranges)


@contextlib.contextmanager
def _own_folder() -> Iterator[str]:
    """A folder for this mount alone. Those that a program left behind which was killed are taken
    away first: who holds one has its lock, and locks end with their program.
    """
    top = Path(tempfile.gettempdir())
    for older in sorted(top.glob(f"{_FOLDER}*"))[:_MOST_FOLDERS]:
        with contextlib.suppress(OSError), _held(older) as is_ours:
            info = older.stat()
            is_old = time.time() - info.st_mtime > _MADE_SECONDS
            if is_ours and is_old and info.st_uid == os.geteuid():
                shutil.rmtree(older, ignore_errors=True)
    with tempfile.TemporaryDirectory(prefix=_FOLDER) as home, _held(Path(home)):
        yield home


@contextlib.contextmanager
def _held(folder: Path) -> Iterator[bool]:
    """Whether a folder of ours is held by nobody else, for as long as the block lasts."""
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        try:
            fcntl.flock(handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            yield False
            return
        yield True
    finally:
        os.close(handle)


class _Child:
    """A process that works and tells what went wrong; it does not outlive the block.

    Attributes:
        number: of the process; it is its own until it was waited for, and never asked about later.
    """

    def __init__(self, work: Callable[[], None], told: IO[bytes], name: str) -> None:
        parent = os.getpid()
        self.number, self._ended = os.fork(), False
        if self.number == 0:
            _as_child(work, told, parent, name)

    def wait(self) -> None:
        """Until it has ended."""
        os.waitpid(self.number, 0)
        self._ended = True

    def has_ended(self) -> bool:
        """Whether it has, without waiting."""
        self._ended = self._ended or os.waitpid(self.number, os.WNOHANG)[0] != 0
        return self._ended

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_: object) -> None:
        if not self._ended:
            os.kill(self.number, signal.SIGKILL)
            self.wait()


def _raise_fault(told: IO[bytes]) -> None:
    told.seek(0)
    said = told.read()
    if said:
        fault = msgspec.json.decode(said, type=_Told)
        raise (RefusedError if fault.refused else InputError)(fault.says, fault.hint)


def _answer(volume: VolumeToMount, told: IO[bytes], ranges: IO[bytes]) -> list[ChangedRange]:
    _raise_fault(told)
    ranges.seek(0)
    found = list(_ranges(ranges))
    if found[-1:] != [(2**64 - 1, b"")]:
        raise InputError(
            f"The driver of {volume.name} did not come to its end; nothing was written.",
            "Try again, or change the files by hand.",
        )
    return found[:-1]


def _ranges(file: IO[bytes]) -> Iterator[ChangedRange]:
    while len(head := file.read(_HEAD.size)) == _HEAD.size:
        offset, length = _HEAD.unpack(head)
        yield offset, file.read(length)


def _as_child(work: Callable[[], None], told: IO[bytes], parent: int, name: str) -> NoReturn:
    """Work as a process of one's own that ends here, whatever happens."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # the parent is asked, and ends us
    namespace.die_with_parent(parent)
    fault: _Told | None = None
    try:
        work()
    except MendingError as error:
        fault = _Told(error.says, error.hint or "", isinstance(error, RefusedError))
    except (OSError, RuntimeError, ImportError) as error:
        fault = _Told(f"{name} cannot be mounted here: {_why(error)}.", "", True)
    except BaseException as error:  # noqa: BLE001 - a child has nobody above that could say it
        fault = _Told(f"The change of files failed: {type(error).__name__}.", "", False)
    if fault is not None:
        told.write(msgspec.json.encode(fault))
        told.flush()
    os._exit(fault is not None)


def _why(error: Exception) -> str:
    """What went wrong, without the names of our own folders."""
    return (error.strerror or type(error).__name__) if isinstance(error, OSError) else str(error)


def _mount_and_act(
    volume: VolumeToMount,
    words: tuple[str, ...],
    act: Callable[[FolderSource], None],
    home: Path,
    server: int,
) -> None:
    """The worker, in a namespace below the server's: it sees the file, and the server does not
    see what is mounted from it.
    """
    namespace.enter_namespace_of(server)
    namespace.enter_own_namespace()
    places = {"{file}": str(home / "file" / NAME), "{folder}": str(home / "tree")}
    try:
        with namespace.mounted([places.get(word, word) for word in words], home / "tree"):
            tree = FolderSource(str(home / "tree"), writable=True)
            try:
                act(tree)
            finally:
                tree.close()
    except OSError as error:
        raise RefusedError(f"{volume.name} cannot be mounted: {error.strerror}.") from error


def _serve(volume: VolumeToMount, place: Path, ranges: IO[bytes]) -> None:
    """The server; gives out what was written as soon as it is told to stop."""
    with Path(os.devnull).open(
        "w"
    ) as nowhere:  # what the library has to say is no sentence of ours
        os.dup2(nowhere.fileno(), 2)
    namespace.enter_own_namespace()
    content = CopyOnWrite(volume.read, volume.size)
    serve(content, place)
    for offset, data in content.changed():
        ranges.write(_HEAD.pack(offset, len(data)) + data)
    ranges.write(_END)
    ranges.flush()


def _wait_for(server: _Child, file: Path, volume: VolumeToMount, told: IO[bytes]) -> None:
    """Until the server shows its file.

    Raises:
        RefusedError: it does not.
    """
    seen = Path(f"/proc/{server.number}/root") / str(file).lstrip("/")
    until = time.monotonic() + _PATIENCE
    while time.monotonic() < until:
        if server.has_ended():
            _raise_fault(told)
            break
        with contextlib.suppress(OSError):
            if seen.stat().st_size == volume.size:
                return
        time.sleep(0.01)
    raise RefusedError(
        "The volume cannot be shown to a driver here.",
        "FUSE (its device and library) has to be there.",
    )
