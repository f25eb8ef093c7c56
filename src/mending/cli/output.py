"""The one place where a sentence, a question or a document leaves the program without a table.

Whatever is in it may come from outside (the name of a file, a label, a log), so it is cleaned here:
control characters never reach a terminal, and of names that are no UTF-8 the bytes are shown.
Tables are cleaned by `show.console`, bars by `progress`, which use the same function.
"""

import contextlib
import os
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from typing import TextIO

import click
import msgspec
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

from mending.model import InputError, MendingError, clean_text, encode_json
from mending.model import Progress as Report

_LONGEST = 4000
"""Characters of a sentence."""


def note(sentence: str, *, err: bool = False) -> None:
    """Say a sentence."""
    click.echo(clean_text(sentence, _LONGEST), err=err)


def put(document: str | bytes) -> None:
    """Print a document of ours as it is: JSON, a report, help."""
    data = document if isinstance(document, bytes) else document.encode("utf-8", "backslashreplace")
    click.echo(data.rstrip(b"\n"))


def confirmed(question: str, *, default: bool = False) -> bool:
    """Ask for yes or no."""
    return click.confirm(clean_text(question, _LONGEST), default=default, err=True)


# A bar with an estimate for work that takes longer than a moment; nothing in a pipe.


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


# Errors as one sentence, or as a JSON document.


class ErrorResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="error/1"):
    """What went wrong and what to do about it; `exit` is the exit status."""

    exit: int
    says: str
    hint: str


def status_of(error: Exception, as_json: bool) -> int:
    """Say what went wrong and return the exit status; errors that are not for people are raised
    again.
    """
    if isinstance(error, click.Abort):
        return _say(ErrorResult(exit=130, says="Stopped.", hint=""), as_json)
    if isinstance(error, click.UsageError):
        hint = f"See: {error.ctx.command_path} --help" if error.ctx else ""
        return _say(ErrorResult(exit=2, says=error.format_message(), hint=hint), as_json)
    if isinstance(error, click.ClickException):
        return _say(
            ErrorResult(exit=error.exit_code, says=error.format_message(), hint=""), as_json
        )
    if isinstance(error, MendingError):
        return _say(ErrorResult(exit=error.exit_status, says=error.says, hint=error.hint), as_json)
    if isinstance(error, BrokenPipeError):
        _nobody_listens()
        return 141
    says = _of_the_machine(error)
    if says:
        return _say(ErrorResult(exit=InputError.exit_status, says=says, hint=""), as_json)
    raise error


def _laid_out(head: str, words: str) -> str:
    """A sentence below its head; on a terminal it is wrapped at words, and a command in it stays
    whole where it fits into a line.
    """
    if sys.stderr is None or not sys.stderr.isatty():
        return head + words
    import shutil  # noqa: PLC0415 - lazy: only at a terminal
    import textwrap  # noqa: PLC0415

    width = max(shutil.get_terminal_size().columns, 40)
    return textwrap.fill(
        words,
        width,
        initial_indent=head,
        subsequent_indent=" " * len(head),
        break_long_words=False,
        break_on_hyphens=False,
    )


def _of_the_machine(error: Exception) -> str:
    """What this machine could not give, in a sentence; empty for a fault of ours."""
    if isinstance(error, MemoryError):
        return "This needs more memory than the program may have."
    if isinstance(error, ImportError) and not isinstance(error, ModuleNotFoundError):
        return f"A part of the program cannot be loaded: {error}."
    if isinstance(error, OSError):
        name = error.filename if isinstance(error.filename, str) else "Standard output"
        return f"{name} cannot be used: {error.strerror or type(error).__name__}."
    return ""


def flushed_or_told(as_json: bool) -> int:
    """Give out all that was printed; 0, or the exit status where that fails."""
    try:
        for stream in (sys.stdout, sys.stderr):
            if stream is not None:
                stream.flush()
    except (OSError, ValueError) as error:
        status = status_of(error, as_json) if isinstance(error, OSError) else 0
        _nobody_listens()
        return status
    return 0


def _nobody_listens(streams: Sequence[TextIO] | None = None) -> None:
    """The reader of a pipe went away: what is still to be written at the end goes nowhere (Python's
    own advice, library reference, `signal`, note on SIGPIPE).
    """
    nowhere = os.open(os.devnull, os.O_WRONLY)
    for stream in streams or (sys.stdout, sys.stderr):
        with contextlib.suppress(OSError, ValueError, AttributeError):  # one that is closed
            os.dup2(nowhere, stream.fileno())
    os.close(nowhere)


def _say(result: ErrorResult, as_json: bool) -> int:
    if as_json:
        try:
            click.echo(encode_json(result))
            sys.stdout.flush()
            return result.exit
        except BrokenPipeError:
            _nobody_listens()
            return result.exit
        except (OSError, ValueError, AttributeError):
            _nobody_listens((sys.stdout,))  # then people are told, at least
    try:
        click.echo(_laid_out("mending: ", clean_text(result.says)), err=True)
        if result.hint:
            click.echo(_laid_out(" " * 9, clean_text(result.hint)), err=True)
    except (OSError, ValueError):
        _nobody_listens()
    return result.exit
