"""The one place where a sentence, a question or a document leaves the program without a table.

Whatever is in it may come from outside (the name of a file, a label, a log), so it is cleaned here:
control characters never reach a terminal, and of names that are no UTF-8 the bytes are shown.
Tables are cleaned by `show.tables`, bars by `progress`, which use the same function.
"""

import contextlib
import os
import sys
from collections.abc import Sequence
from typing import TextIO

import click
import msgspec

from mending.model import InputError, MendingError, clean_text, encode_json

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
