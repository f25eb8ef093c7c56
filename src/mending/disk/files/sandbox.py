"""Work on damaged data that is not ours to bound, done in a process of its own with bounded
processor time.

The library that reads files inside volumes can go round in circles for minutes over one damaged
number, or end the process. SandboxedProcess from us it may do both: we are told, and go on. Slow
disks do not matter: waiting costs no processor time.
"""

import os
import resource
import signal
import weakref
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

from mending.model import InputError
from mending.model.limits import SANDBOX_SECONDS

if TYPE_CHECKING:
    from multiprocessing.connection import Connection

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
    """

    def __init__(self, make: Callable[[], object], seconds: float = SANDBOX_SECONDS) -> None:
        import multiprocessing  # noqa: PLC0415 - lazy, for it is slow to load

        if "fork" not in multiprocessing.get_all_start_methods():
            self._direct: object | None = make()
            return
        self._direct = None
        context = multiprocessing.get_context("fork")
        self._line, theirs = context.Pipe()
        process = context.Process(target=_serve, args=(make, theirs, seconds), daemon=True)
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
            answer = self._line.recv()
        except (EOFError, OSError) as error:
            self._end()
            raise SandboxEndedError from error
        if isinstance(answer, Exception):
            raise answer
        return answer


def _serve(make: Callable[[], object], line: "Connection", seconds: float) -> None:
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    signal.setitimer(
        signal.ITIMER_PROF, seconds
    )  # counts processor time; its signal ends the process
    signal.signal(signal.SIGPROF, signal.SIG_DFL)
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    served: object | None = None
    while True:
        try:
            method, words = line.recv()
        except EOFError:
            return
        try:
            served = make() if served is None else served
            answer = getattr(served, method)(*words)
            _allow_for(answer)
            line.send(answer)
        except (
            OSError,
            RuntimeError,
        ) as error:  # the latter is how the library passes on what a read raised
            line.send(OSError(str(error)))
        except InputError as error:
            line.send(InputError(error.says, error.hint))


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
