"""Work on damaged data that is not ours to bound, done in a process of its own with bounded
processor time.

The library that reads files inside volumes can go round in circles for minutes over one damaged
number, or end the process. In a process of its own it may do both: we are told, and go on. Slow
disks do not matter: waiting costs no processor time.

That process can do no harm and does not outlive us: what it was born with it can only read, pipes
of others are closed in it, its memory is bounded, and it ends with its parent. All processes for
one target share a bound as well, so that a disk of many damaged volumes takes no longer than a few.
"""

import contextlib
import fcntl
import os
import resource
import signal
import stat
import time
import weakref
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mending.model import InputError
from mending.model.limits import SANDBOX_SECONDS, SANDBOX_SHARES

if TYPE_CHECKING:
    from multiprocessing.connection import Connection

_PR_SET_PDEATHSIG, _STANDARD = 1, 2
_MEMORY = 2 << 30
"""Address space of the other process; sound volumes take a tenth of it."""
_SPEED, _WORTH = 50_000_000, 1 << 20
"""Bytes that a slow machine delivers in a second of processor time, and from how many on that is
counted.
"""


class SandboxEndedError(Exception):
    """The process ended without an answer: too long, or a crash."""


class SandboxedProcess:
    """Calls methods of an object that lives in another process; in this one where the system cannot
    fork.

    Args:
        make: makes the object there; its OSError and InputError come back as the answer of the
            first call.
        seconds: processor time that it may take.
        target: all processes for the same one together may take `SANDBOX_SHARES` times that.
    """

    def __init__(
        self,
        make: Callable[[], object],
        seconds: float = SANDBOX_SECONDS,
        target: object | None = None,
    ) -> None:
        self._target, self._taken = target, 0.0
        left = seconds * SANDBOX_SHARES - _taken.get(target, 0.0) if target is not None else seconds
        self._seconds = min(seconds, max(left, 0.001))
        import multiprocessing  # noqa: PLC0415 - lazy, for it is slow to load

        if "fork" not in multiprocessing.get_all_start_methods():
            self._direct: object | None = make()
            return
        self._direct = None
        context = multiprocessing.get_context("fork")
        self._line, theirs = context.Pipe()
        process = context.Process(
            target=_serve, args=(make, theirs, self._seconds, os.getpid()), daemon=True
        )
        process.start()
        theirs.close()
        self._end = weakref.finalize(self, _end, process, self._line, os.getpid())

    def call(self, method: str, *words: object) -> Any:
        """The method's answer.

        Raises:
            OSError, InputError: as the method raised it.
            SandboxEndedError: there is no answer; further calls have none either.
        """
        if self._direct is not None:
            return getattr(self._direct, method)(*words)
        try:
            self._line.send((method, words))
            answer, taken = self._line.recv()
        except (EOFError, OSError) as error:
            self._count(self._seconds)
            self._end()
            raise SandboxEndedError from error
        self._count(taken)
        if isinstance(answer, Exception):
            raise answer
        return answer

    def _count(self, taken: float) -> None:
        """Note the processor time that this process has taken by now."""
        if self._target is not None:
            _taken[self._target] = _taken.get(self._target, 0.0) + max(taken - self._taken, 0.0)
            self._taken = max(taken, self._taken)


_taken: "weakref.WeakKeyDictionary[object, float]" = weakref.WeakKeyDictionary()
"""Processor time by target."""


def _serve(make: Callable[[], object], line: "Connection", seconds: float, parent: int) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    _end_with(parent)
    _only_read(line.fileno())
    # counts processor time; its signal ends the process
    signal.setitimer(signal.ITIMER_PROF, seconds)
    signal.signal(signal.SIGPROF, signal.SIG_DFL)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    resource.setrlimit(resource.RLIMIT_AS, (_MEMORY, _MEMORY))
    served: object | None = None
    while True:
        try:
            method, words = line.recv()
        except EOFError:
            return
        answer: object
        try:
            served = make() if served is None else served
            answer = getattr(served, method)(*words)
            _allow_for(answer)
        except MemoryError:
            answer = OSError("it takes more memory than is given to it")
        except (OSError, RuntimeError) as error:  # the library passes read errors on as the latter
            answer = OSError(str(error))
        except InputError as error:
            answer = InputError(error.says, error.hint)
        line.send((answer, time.process_time()))


def _end_with(parent: int) -> None:
    """End when the parent does, however that ends (prctl(2), PR_SET_PDEATHSIG)."""
    import ctypes  # noqa: PLC0415 - lazy, for it is slow to load

    with contextlib.suppress(AttributeError, OSError):  # another system than Linux has other ways
        ctypes.CDLL(None).prctl(_PR_SET_PDEATHSIG, signal.SIGKILL)
    if os.getppid() != parent:
        os._exit(1)


def _only_read(line: int) -> None:
    """Exchange pipes of others for nothing, and what can be written for a handle that can only be
    read.
    """
    try:
        handles = [int(place.name) for place in Path("/proc/self/fd").iterdir()]
    except OSError:
        return  # without it the handles cannot be told
    for handle in handles:
        if handle <= _STANDARD or handle == line:
            continue
        with contextlib.suppress(OSError):  # the handle of the listing itself is gone already
            kind = os.fstat(handle).st_mode
            if stat.S_ISFIFO(kind) or stat.S_ISSOCK(kind):
                _put(os.open(os.devnull, os.O_RDONLY), handle)
            elif fcntl.fcntl(handle, fcntl.F_GETFL) & os.O_ACCMODE != os.O_RDONLY:
                _exchange(handle)


def _exchange(handle: int) -> None:
    try:
        reading = os.open(f"/proc/self/fd/{handle}", os.O_RDONLY | os.O_CLOEXEC)
    except OSError:
        reading = os.open(os.devnull, os.O_RDONLY)
    _put(reading, handle)


def _put(other: int, handle: int) -> None:
    """Let a handle be another one; whoever holds its number can still close it."""
    os.dup2(other, handle, inheritable=False)
    os.close(other)


def _allow_for(answer: Any) -> None:
    """Reading a large file takes its time: what was delivered is no circle."""
    delivered = (
        len(answer[0])
        if isinstance(answer, tuple) and answer and isinstance(answer[0], bytes)
        else 0
    )
    if delivered >= _WORTH:
        signal.setitimer(
            signal.ITIMER_PROF, signal.getitimer(signal.ITIMER_PROF)[0] + delivered / _SPEED
        )


def _end(process: Any, line: "Connection", owner: int) -> None:
    line.close()
    if os.getpid() != owner:
        return  # another sandboxed process, which was forked while this one lived, only forgets it
    process.kill()
    process.join()
