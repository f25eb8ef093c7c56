"""A bar with an estimate for work that takes longer than a moment; nothing in a pipe."""

from collections.abc import Callable, Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import (
    BarColumn,
    DownloadColumn,
    MofNCompleteColumn,
    Progress,
    ProgressColumn,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)

from mending.model import Progress as Report
from mending.model import clean_text

_WIDE = 14
"""Columns of a bar: words beside it fit into 80."""


@contextmanager
def bar(what: str, *, in_bytes: bool = True) -> Iterator[Report]:
    """A function to call with what is done and what there is in all; it draws on standard error of
    a terminal alone.
    """
    console = Console(stderr=True, highlight=False)
    count = (
        (DownloadColumn(binary_units=True), TransferSpeedColumn())
        if in_bytes
        else (MofNCompleteColumn(),)
    )
    with _drawn(console, *count) as shown:
        task = shown.add_task(clean_text(what), total=None)
        yield lambda done, total: shown.update(task, completed=done, total=total)


@contextmanager
def worded_bar(what: str) -> Iterator[Callable[[int, int, str], None]]:
    """The same for bytes, with words for what is being done: a function that takes what is done,
    what there is in all, and these.
    """
    console = Console(stderr=True, highlight=False)
    with _drawn(console, DownloadColumn(binary_units=True)) as shown:
        task = shown.add_task(clean_text(what), total=None)
        yield lambda done, total, says: shown.update(
            task, completed=done, total=total, description=clean_text(says)
        )


@contextmanager
def steps_bar() -> Iterator[Callable[[float, str], None]]:
    """A bar that goes forward by steps of unlike length: a function that takes the share that is
    done and words. It is wiped away at the end.
    """
    console = Console(stderr=True, highlight=False)
    columns = (BarColumn(bar_width=_WIDE), TextColumn("{task.description}", markup=False))
    with Progress(*columns, console=console, transient=True) as shown:
        task = shown.add_task("", total=1.0)
        yield lambda share, words: shown.update(
            task, completed=share, description=clean_text(words)
        )


def _drawn(console: Console, *count: ProgressColumn) -> Progress:
    text = TextColumn("{task.description}", markup=False)
    columns = (text, BarColumn(bar_width=_WIDE), *count, TimeRemainingColumn())
    return Progress(*columns, console=console, transient=True, disable=not console.is_terminal)
