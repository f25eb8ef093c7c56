"""What one command that reads may take of this machine, whatever lies on the disk: time and memory.

Every reader has bounds of its own for each chain that it follows. These here are for what a hostile
or dying disk makes of many such chains. They are looked at once a second by an alarm, for a limit
of the operating system on memory counts what an emulator only reserves.
"""

import resource
import signal
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType

from mending.model import TookTooMuchError

MOST_MEMORY = 4 << 30
"""Bytes; the largest hive and the dearest key take a quarter of it."""
MOST_SECONDS = 900.0
"""A sound disk is traced in a second or two; a dying one that answers at all, in some minutes."""
_PAUSE = 1.0
_KIBIBYTE = 1024


@contextmanager
def within_bounds(
    what: str, seconds: float = MOST_SECONDS, memory: int = MOST_MEMORY, pause: float = _PAUSE
) -> Iterator[None]:
    """Read within so much time, by the clock on the wall, and memory; for work that writes nothing.

    Only the main thread can be stopped so; in another nothing is watched.

    Args:
        what: what is read, as a person would name it.
        memory: of the whole process, in bytes.
        pause: seconds between two looks.

    Raises:
        TookTooMuchError
    """
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    until = time.monotonic() + seconds

    def look(_number: int, _frame: FrameType | None) -> None:
        if time.monotonic() > until:
            raise TookTooMuchError(
                f"{what} was read for {seconds / 60:.0f} minutes without an end, and nothing is"
                " known of it.",
                "A drive this slow may be failing: copy it first (mending copy), then look at"
                " that.",
            )
        if resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * _KIBIBYTE > memory:
            raise TookTooMuchError(
                f"Reading {what} took more than the {memory >> 20} MiB of memory that a command"
                " may take, and nothing is known of it."
            )

    before = signal.signal(signal.SIGALRM, look)
    signal.setitimer(signal.ITIMER_REAL, pause, pause)
    try:
        yield
    finally:
        signal.setitimer(signal.ITIMER_REAL, 0)
        signal.signal(signal.SIGALRM, before)
