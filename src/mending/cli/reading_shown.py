"""How far reading has come, where it takes longer than a moment: one line on the standard error of
a terminal, nothing in a pipe.
"""

import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from mending.model import PHASES_ON_DISK, Phase, clean_text, plain_size
from mending.source import Target

_MOMENT, _PAUSE, _SLOW = 1.0, 0.25, 20.0
"""Seconds before anything is shown, between two pictures, and until slowness is spoken of."""
_ADVICE = "this is slow; a failing drive is copied first (mending copy)"
_COLUMNS = 64
"""What a line of 80 columns holds beside the bar."""


class Seen:
    """How far reading has come."""

    def __init__(self) -> None:
        self.target: Target | None = None
        self.phase: Phase = PHASES_ON_DISK[0]

    def opened(self, target: Target) -> None:
        """See `Watch.opened`."""
        self.target = target

    def reached(self, phase: Phase) -> None:
        """See `Watch.reached`."""
        self.phase = phase

    @property
    def share(self) -> float:
        """Of the phases that a disk can tell of, those that are behind."""
        behind = sum(phase.rank < self.phase.rank for phase in PHASES_ON_DISK)
        return behind / len(PHASES_ON_DISK)


@contextmanager
def reading_shown(name: str) -> Iterator[Seen]:
    """What is to be told how far reading is. The phase, the bytes read and the time are shown until
    the end of the block; what was shown is wiped away.

    Args:
        name: what is read, as the person named it.
    """
    seen, ended = Seen(), threading.Event()
    if not sys.stderr.isatty():
        yield seen
        return

    def show() -> None:
        began = time.monotonic()
        if ended.wait(_MOMENT):
            return
        from mending.cli.progress import steps_bar  # noqa: PLC0415 - lazy: most reading is quicker

        with steps_bar() as say:
            while not ended.wait(_PAUSE):
                if seen.target is not None:
                    spent = time.monotonic() - began
                    say(seen.share, _words(name, seen.phase, seen.target, spent))

    shown = threading.Thread(target=show, daemon=True)
    shown.start()
    try:
        yield seen
    finally:
        ended.set()
        shown.join()


def _words(name: str, phase: Phase, target: Target, seconds: float) -> str:
    if seconds > _SLOW and int(seconds) % 6 < 3:
        return _ADVICE
    count = f"{plain_size(target.bytes_read)} in {seconds // 60:.0f}:{seconds % 60:02.0f}"
    return f"{clean_text(Path(name).name, 30)}: {phase.replace('-', ' ')}, {count}"[:_COLUMNS]
