"""How far work has come that takes longer than a moment: a bar with an estimate, or one line about
reading, on the standard error of a terminal; nothing in a pipe.
"""

import sys
import threading
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from importlib import import_module
from pathlib import Path
from typing import Any

from rich.console import Console

from mending.model import PHASES_ON_DISK, Phase, clean_text, plain_size
from mending.model import Progress as Report
from mending.source import Target

_WIDE = 14
"""Columns of a bar: words beside it fit into 80."""


@contextmanager
def bar(what: str, *, in_bytes: bool = True) -> Iterator[Report]:
    """A function to call with what is done and what there is in all; it draws on standard error of
    a terminal alone.
    """
    rich = _bars()
    count = (
        (rich.DownloadColumn(binary_units=True), rich.TransferSpeedColumn())
        if in_bytes
        else (rich.MofNCompleteColumn(),)
    )
    with _drawn(*count) as shown:
        task = shown.add_task(clean_text(what), total=None)
        yield lambda done, total: shown.update(task, completed=done, total=total)


@contextmanager
def worded_bar(what: str) -> Iterator[Callable[[int, int, str], None]]:
    """The same for bytes, with words for what is being done: a function that takes what is done,
    what there is in all, and these.
    """
    with _drawn(_bars().DownloadColumn(binary_units=True)) as shown:
        task = shown.add_task(clean_text(what), total=None)
        yield lambda done, total, says: shown.update(
            task, completed=done, total=total, description=clean_text(says)
        )


@contextmanager
def steps_bar() -> Iterator[Callable[[float, str], None]]:
    """A bar that goes forward by steps of unlike length: a function that takes the share that is
    done and words. It is wiped away at the end.
    """
    rich = _bars()
    columns = (rich.BarColumn(bar_width=_WIDE), rich.TextColumn("{task.description}", markup=False))
    with rich.Progress(*columns, console=_terminal(), transient=True) as shown:
        task = shown.add_task("", total=1.0)
        yield lambda share, words: shown.update(
            task, completed=share, description=clean_text(words)
        )


def _drawn(*count: Any) -> Any:
    rich, console = _bars(), _terminal()
    text = rich.TextColumn("{task.description}", markup=False)
    columns = (text, rich.BarColumn(bar_width=_WIDE), *count, rich.TimeRemainingColumn())
    return rich.Progress(*columns, console=console, transient=True, disable=not console.is_terminal)


def _terminal() -> Console:
    return Console(stderr=True, highlight=False)


def _bars() -> Any:
    """The package that draws bars; it loads slowly, and most work is over before a bar is drawn."""
    return import_module("rich.progress")


# How far reading has come, where it takes longer than a moment: one line on the standard error of
# a terminal, nothing in a pipe.


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
