"""A bar with an estimate for work that takes longer than a moment; nothing in a pipe."""

from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import BarColumn, DownloadColumn, Progress, TextColumn, TimeRemainingColumn, TransferSpeedColumn

from mending.disk import Progress as Report


@contextmanager
def bar(what: str) -> Iterator[Report]:
    """A function to call with bytes done and bytes in all; it draws on standard error, and only on a terminal."""
    console = Console(stderr=True, highlight=False)
    columns = (
        TextColumn(what),
        BarColumn(),
        DownloadColumn(binary_units=True),
        TransferSpeedColumn(),
        TimeRemainingColumn(),
    )
    with Progress(*columns, console=console, transient=True, disable=not console.is_terminal) as shown:
        task = shown.add_task(what, total=None)
        yield lambda done, total: shown.update(task, completed=done, total=total)
