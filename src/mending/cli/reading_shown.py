"""How far reading has come, where it takes longer than a moment: one line on the standard error of
a terminal, nothing in a pipe.
"""

import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager

from mending.model import clean_text, plain_size
from mending.source import Target

_MOMENT, _PAUSE, _SLOW = 1.0, 0.25, 20.0
"""Seconds before anything is shown, between two pictures, and until slowness is spoken of."""
_ADVICE = "slow for its size; a failing drive is copied first (mending copy)"
_COLUMNS = 77
"""What a line of 80 columns holds behind the sign that something goes on."""


@contextmanager
def reading_shown(name: str) -> Iterator[Callable[[Target], None]]:
    """A function to call with what is read. From then on the bytes read and the time are shown
    until the end of the block; what was shown is wiped away.

    Args:
        name: what is read, as the person named it.
    """
    if not sys.stderr.isatty():
        yield lambda _: None
        return
    ended = threading.Event()
    watched: list[Target] = []

    def show() -> None:
        began = time.monotonic()
        if ended.wait(_MOMENT):
            return
        from mending.cli.progress import spinner  # noqa: PLC0415 - lazy: most reading is quicker

        with spinner() as say:
            while not ended.wait(_PAUSE):
                if watched:
                    say(_line(name, watched[0], time.monotonic() - began))

    shown = threading.Thread(target=show, daemon=True)
    shown.start()
    try:
        yield watched.append
    finally:
        ended.set()
        shown.join()


def _line(name: str, target: Target, seconds: float) -> str:
    count = f"{plain_size(target.bytes_read)} in {seconds // 60:.0f}:{seconds % 60:02.0f}"
    advice = f"; {_ADVICE}" if seconds > _SLOW else ""
    line = f"reading {clean_text(name, 40)}: {count}"
    return f"{line}{advice}" if len(line + advice) <= _COLUMNS else line[:_COLUMNS]
