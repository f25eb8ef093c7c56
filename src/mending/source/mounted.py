"""The three processes of a volume that is changed by its driver; see the room's own words."""

import contextlib
import ctypes
import errno
import os
import shutil
import signal
import stat
import struct
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import cache, partial
from pathlib import Path
from typing import IO, Any, NoReturn, Self

import msgspec

from mending.model import (
    FilesystemKind,
    InputError,
    MendingError,
    RefusedError,
    clean_text,
    load_extra,
)
from mending.source.folder import FolderSource
from mending.source.portable import AS_IT_IS, FOLDER, NO_LINK, lock_handle

# How each kind of file system is mounted: the programs that do it, the safest first.
#
# A driver outside the kernel is preferred: what a hostile volume can do to it, it cannot do to the
# machine. Where a volume says what the kernel is to do about its errors (ext may ask for a panic),
# that is overruled. Nothing on the volume is executed, no device of it is opened, and no time of
# access is written.


_SAFE = "nosuid,nodev,noexec,noatime"
_ENDS = ("{file}", "{folder}")


def drivers_of(kind: FilesystemKind, subvolume: str | None = None) -> tuple[tuple[str, ...], ...]:
    """The command lines that mount a kind, the preferred first; none for a kind that is not mounted
    here. `{file}` and `{folder}` stand for the volume and the place.

    Args:
        subvolume: path of the one that counts as the whole, empty for the uppermost; None for the
            one that is mounted where none is named.
    """
    if kind is FilesystemKind.BTRFS and subvolume is not None:
        if "," in subvolume:
            return ()  # it would be read as further options
        return (_kernel("btrfs", "commit=300", f"subvol=/{subvolume}"),)
    return _DRIVERS.get(kind, ())


def _kernel(kind: str, *options: str) -> tuple[str, ...]:
    return ("mount", "-n", "-t", kind, "-o", ",".join(("loop", _SAFE, *options)), *_ENDS)


_DRIVERS: Mapping[FilesystemKind, tuple[tuple[str, ...], ...]] = {
    FilesystemKind.EXT: (
        ("fuse2fs", "-f", "-o", f"rw,{_SAFE}", *_ENDS),
        _kernel("ext4", "noinit_itable", "errors=remount-ro"),
    ),
    FilesystemKind.XFS: (_kernel("xfs", "nouuid"),),
    FilesystemKind.BTRFS: (_kernel("btrfs", "commit=300"),),
    FilesystemKind.NTFS: (
        ("ntfs-3g", "-o", f"{_SAFE},inherit,no_detach", *_ENDS),
        _kernel("ntfs3"),
    ),
}


# Mounts that nobody else sees: the calls of the Linux kernel that a worker needs, and the programs
# that mount.


_CLONE_NEWNS, _MS_REC, _MS_PRIVATE = 0x00020000, 0x4000, 1 << 18
_PR_SET_PDEATHSIG = 1
_PLACES = "/usr/sbin:/usr/bin:/sbin:/bin"
_PATIENCE = 60.0
"""Seconds for a mount; a driver that takes longer has lost itself in what it reads."""


def die_with_parent(parent: int) -> None:
    """End this process as soon as the one that made it ends (prctl(2)), or now where it has ended
    already. Args: parent: its number.
    """
    _libc().prctl(_PR_SET_PDEATHSIG, signal.SIGKILL, 0, 0, 0)
    if os.getppid() != parent:
        os._exit(1)


def enter_own_namespace() -> None:
    """From here on what this process mounts is seen by itself and its children alone
    (mount_namespaces(7)).

    Raises:
        OSError
    """
    libc = _libc()
    _checked(libc.unshare(_CLONE_NEWNS))
    _checked(libc.mount(b"none", b"/", None, _MS_REC | _MS_PRIVATE, None))


def enter_namespace_of(process: int) -> None:
    """See from here on what another process has mounted (setns(2)).

    Raises:
        OSError
    """
    handle = os.open(f"/proc/{process}/ns/mnt", os.O_RDONLY | AS_IT_IS)
    try:
        _checked(_libc().setns(handle, _CLONE_NEWNS))
    finally:
        os.close(handle)


@contextlib.contextmanager
def mounted(words: Sequence[str], place: Path) -> Iterator[None]:
    """A program mounts a file; it is unmounted at the end, and the program has ended.

    A driver outside the kernel is a program that goes on until then; it ends with us.

    Raises:
        OSError: it cannot be mounted or unmounted; its text is what the program says.
    """
    program = shutil.which(words[0], path=_PLACES)
    if program is None:
        raise OSError(2, f"{words[0]} is not on this machine")
    outside = place.stat().st_dev
    with tempfile.TemporaryFile() as said:
        running = subprocess.Popen(
            [program, *words[1:]],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=said,
            env={"PATH": _PLACES, "LC_ALL": "C"},
            preexec_fn=partial(die_with_parent, os.getpid()),
        )
        try:
            until = time.monotonic() + _PATIENCE
            while not _is_mounted(place, outside):
                ended = running.poll()
                if ended is not None and not (ended == 0 and _is_mounted(place, outside)):
                    raise OSError(5, _first_line(said) or f"{words[0]} ended with {ended}")
                if time.monotonic() > until:
                    raise OSError(5, "the driver does not come to an end")
                time.sleep(0.005)
            yield
            unmount(place)
            running.wait(_PATIENCE)
        finally:
            if running.poll() is None:
                running.kill()
                running.wait()


def _is_mounted(place: Path, outside: int) -> bool:
    """Whether something that answers is mounted there."""
    try:
        return place.stat().st_dev != outside
    except OSError:
        return False


def _first_line(said: IO[bytes]) -> str:
    said.seek(0)
    rows = said.read(4096).decode(errors="replace").split("\n")
    return clean_text(rows[0].strip(), 200)


def is_at_hand(program: str) -> bool:
    """Whether a program that mounts is there."""
    return shutil.which(program, path=_PLACES) is not None


def unmount(place: Path) -> None:
    """Unmount and wait until it is done.

    Raises:
        OSError: it stays busy.
    """
    for _ in range(100):
        if _libc().umount2(os.fsencode(place), 0) == 0:
            return
        if ctypes.get_errno() != 16:  # busy
            break
        time.sleep(0.05)
    _checked(-1)


def _libc() -> ctypes.CDLL:
    return ctypes.CDLL(None, use_errno=True)


def _checked(answer: int) -> None:
    if answer != 0:
        number = ctypes.get_errno()
        raise OSError(number, os.strerror(number))


# Bytes of a volume as a driver may change them: reads come from below, writes stay in memory.


BLOCK = 4096
MOST_KEPT = 512 << 20
"""Most bytes that are kept: a kernel and its initramfs with everything around them have under a
third of that.
"""

Read = Callable[[int, int], bytes]
"""Offset and length to bytes; a short answer is the end."""


class CopyOnWrite:
    """A volume and what was written over it.

    Args:
        below: reads of the volume.
        size: bytes of the volume.
    """

    def __init__(self, below: Read, size: int, most: int = MOST_KEPT) -> None:
        self._below, self.size, self._most = below, size, most
        self._blocks: dict[int, bytearray] = {}

    def read(self, offset: int, length: int) -> bytes:
        """Bytes as they are now."""
        length = max(0, min(length, self.size - offset))
        first, last = offset // BLOCK, -(-(offset + length) // BLOCK)
        written = [number for number in range(first, last) if number in self._blocks]
        if len(written) == last - first:
            data = bytearray(b"".join(self._blocks[number] for number in written))
            return bytes(data[offset - first * BLOCK :][:length])
        data = bytearray(self._below(offset, length).ljust(length, b"\0"))
        for number in written:
            block, at = self._blocks[number], number * BLOCK - offset
            start, end = max(at, 0), min(at + len(block), length)
            data[start:end] = block[start - at : end - at]
        return bytes(data)

    def write(self, offset: int, data: bytes) -> int:
        """Keep a write.

        Raises:
            OSError: behind the end, or more than is kept.
        """
        if offset < 0 or offset + len(data) > self.size:
            raise OSError(27, "behind the end of the volume")
        at = 0
        while at < len(data):
            number, into = divmod(offset + at, BLOCK)
            piece = data[at : at + BLOCK - into]
            self._block(number)[into : into + len(piece)] = piece
            at += len(piece)
        return len(data)

    def _block(self, number: int) -> bytearray:
        block = self._blocks.get(number)
        if block is None:
            if (len(self._blocks) + 1) * BLOCK > self._most:
                raise OSError(28, "more is written than is kept")
            start = number * BLOCK
            length = min(BLOCK, self.size - start)
            block = bytearray(self._below(start, length).ljust(length, b"\0"))
            self._blocks[number] = block
        return block

    def changed(self) -> Iterator[tuple[int, bytes]]:
        """Offset and bytes of what differs from below, neighbours in one piece."""
        start, held = 0, bytearray()
        for number in sorted(self._blocks):
            at, block = number * BLOCK, self._blocks[number]
            if self._below(at, len(block)) == block:
                continue
            if held and start + len(held) != at:
                yield start, bytes(held)
                held = bytearray()
            if not held:
                start = at
            held += block
        if held:
            yield start, bytes(held)


# One file, `volume`, shown to drivers through FUSE: what it holds is a `CopyOnWrite`.


NAME = "volume"


@cache
def load_fuse() -> Any:
    """The package that speaks to the system's library, for which it looks when it is imported.

    Raises:
        UsageError: the extra `mount` is not installed. RefusedError: the system has no such
            library.
    """
    try:
        return load_extra("mfusepy", "mount")
    except OSError as error:
        raise RefusedError(
            "The system's FUSE library is not here.", "Install it (libfuse), then try again."
        ) from error


def serve(volume: CopyOnWrite, place: Path) -> None:
    """Show the file in a folder until that is unmounted.

    Raises:
        OSError: the system does not let us, or has no library for it.
        RuntimeError: the mount fails.
    """
    mfusepy = load_fuse()

    class Served(mfusepy.Operations):  # type: ignore[misc, name-defined]
        """The calls that a driver makes on a file."""

        use_ns = True

        def getattr(self, path: str, _fh: int | None = None) -> dict[str, Any]:
            """Of the top and of the file; there is nothing else."""
            if path == "/":
                return {"st_mode": stat.S_IFDIR | 0o700, "st_nlink": 2}
            if path != f"/{NAME}":
                raise mfusepy.FuseOSError(errno.ENOENT)
            return {"st_mode": stat.S_IFREG | 0o600, "st_nlink": 1, "st_size": volume.size}

        def readdir(self, _path: str, _fh: int) -> list[str]:
            """The names of the top."""
            return [".", "..", NAME]

        def read(self, _path: str, size: int, offset: int, _fh: int) -> bytes:
            """Bytes of the volume."""
            return volume.read(offset, size)

        def write(self, _path: str, data: bytes, offset: int, _fh: int) -> int:
            """Bytes that stay here."""
            return volume.write(offset, data)

        def flush(self, _path: str, _fh: int) -> int:
            """Nothing waits."""
            return 0

        def fsync(self, _path: str, _datasync: int, _fh: int) -> int:
            """Nothing waits."""
            return 0

        def truncate(self, _path: str, length: int, _fh: int | None = None) -> int:
            """A volume keeps its length."""
            if length != volume.size:
                raise mfusepy.FuseOSError(errno.EPERM)
            return 0

    mfusepy.FUSE(Served(), str(place), foreground=True, nothreads=True)


ChangedRange = tuple[int, bytes]
"""Offset in the volume, and the bytes that stand there afterwards."""
_HEAD = struct.Struct("<QQ")
_END = _HEAD.pack(2**64 - 1, 0)
_FOLDER, _MOST_FOLDERS, _MADE_SECONDS = "mending-mount-", 100, 60.0
"""How our folders begin, how many left ones are looked at, and how long one may be without a lock
after it was made.
"""
_WORK_PATIENCE = 20.0
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
        if not is_at_hand(words[0]):
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
    handle = os.open(folder, FOLDER | NO_LINK)
    try:
        try:
            lock_handle(handle)
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
    die_with_parent(parent)
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
    enter_namespace_of(server)
    enter_own_namespace()
    places = {"{file}": str(home / "file" / NAME), "{folder}": str(home / "tree")}
    try:
        with mounted([places.get(word, word) for word in words], home / "tree"):
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
    enter_own_namespace()
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
    until = time.monotonic() + _WORK_PATIENCE
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
