"""Mounts that nobody else sees: the calls of the Linux kernel that a worker needs, and the programs
that mount.
"""

import contextlib
import ctypes
import os
import shutil
import signal
import subprocess
import tempfile
import time
from collections.abc import Iterator, Sequence
from functools import partial
from pathlib import Path
from typing import IO

from mending.model import clean_text

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
    handle = os.open(f"/proc/{process}/ns/mnt", os.O_RDONLY | os.O_CLOEXEC)
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
