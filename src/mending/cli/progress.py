"""A bar with an estimate for work that takes longer than a moment; nothing in a pipe."""

from collections.abc import Iterator
from contextlib import contextmanager

from rich.console import Console
from rich.progress import (
    BarColumn,
    DownloadColumn,
    MofNCompleteColumn,
    Progress,
    TextColumn,
    TimeRemainingColumn,
    TransferSpeedColumn,
)

from mending.model import Progress as Report


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
    columns = (TextColumn(what), BarColumn(), *count, TimeRemainingColumn())
    with Progress(
        *columns, console=console, transient=True, disable=not console.is_terminal
    ) as shown:
        task = shown.add_task(what, total=None)
        yield lambda done, total: shown.update(task, completed=done, total=total)
