"""Where the answers of a conversation come from: a terminal, a pipe, or a file."""

import os
import sys
import time
from collections.abc import Callable
from io import TextIOBase
from pathlib import Path
from typing import Any

import click

from mending.case.guide import NOTES, Prompt
from mending.model import InputError, clean_text

Answers = Callable[[Prompt], str | None]
"""Gives the line that answers a prompt; None at the end."""
_MOST_CHARACTERS = 4000
"""Of one answer; whatever is longer is no answer to anything."""
_DIGITS = 9
"""More answers than this have numbers of two digits."""


def answers_from(
    file: Path | None,
    clock: Callable[[Prompt, float], str],
    echo: bool = True,
    one_key: bool = False,
) -> Answers:
    """The lines of a file; else those of a person at a terminal, or of a pipe.

    Args:
        clock: what is said below a step while it runs, after so many minutes.
        echo: print the lines of a file or pipe.
        one_key: at a terminal a digit alone chooses, without the Enter key.

    Raises:
        InputError: the file cannot be read.
    """
    if file is not None:
        try:
            return _lines(file.open(encoding="utf-8", errors="replace"), echo)
        except OSError as error:
            raise InputError(f"{file} cannot be read: {error.strerror}.") from error
    at_terminal = sys.stdin.isatty() and sys.stdout.isatty()
    if at_terminal and os.environ.get("TERM", "dumb") not in {"", "dumb"}:
        return _typed(clock, one_key)
    return _lines(sys.stdin, echo)


def _lines(stream: Any, echo: bool) -> Answers:
    """Line after line, echoed, so that what is printed reads as it went."""

    def answer(prompt: Prompt) -> str | None:  # noqa: ARG001 - the shape is shared
        typed = stream is sys.stdin and sys.stdin.isatty()
        if echo:
            click.echo("> ", nl=False)
        line = _whole_line(stream)
        words = clean_text(line.rstrip("\r\n"))
        if echo and not (typed and line):
            click.echo(words)
        return words if line else None

    assert isinstance(stream, TextIOBase)
    return answer


def _whole_line(stream: Any) -> str:
    """One line; of a longer one than any answer has, what is too much is passed over."""
    line = stream.readline(_MOST_CHARACTERS)
    rest = line
    while len(rest) == _MOST_CHARACTERS and not rest.endswith("\n"):
        rest = stream.readline(_MOST_CHARACTERS)
    return str(line)


def _typed(clock: Callable[[Prompt, float], str], one_key: bool) -> Answers:
    """A person at a terminal: earlier lines with the arrow keys, names completed with the tab key,
    a clock below a step while it runs, and for who wants it choices by one key.
    """
    from prompt_toolkit import PromptSession  # noqa: PLC0415 - lazy: only at a terminal
    from prompt_toolkit.completion import WordCompleter  # noqa: PLC0415

    session: Any = PromptSession()
    everywhere = [name.split(" ")[0] for name in NOTES]

    def answer(prompt: Prompt) -> str | None:
        began = time.monotonic()
        running = prompt.card is not None

        def below() -> str:
            return clock(prompt, (time.monotonic() - began) / 60)

        names = [*prompt.answers, *prompt.also, *everywhere]
        try:
            line = session.prompt(
                "> ",
                key_bindings=_choosing(len(prompt.answers)) if one_key else None,
                completer=WordCompleter(names, sentence=True),
                complete_while_typing=False,
                bottom_toolbar=below if running else None,
                refresh_interval=1.0 if running else 0.0,
            )
        except EOFError:
            return None
        return clean_text(str(line))[:_MOST_CHARACTERS]

    return answer


def _choosing(count: int) -> Any:
    """Keys that choose among so many answers: a digit as the first thing on the line, where every
    answer has a digit of its own.
    """
    from prompt_toolkit.application import get_app  # noqa: PLC0415 - lazy: only at a terminal
    from prompt_toolkit.filters import Condition  # noqa: PLC0415
    from prompt_toolkit.key_binding import KeyBindings  # noqa: PLC0415

    keys = KeyBindings()
    first = Condition(lambda: not get_app().current_buffer.text)

    def choose(event: Any) -> None:
        event.current_buffer.text = event.data
        event.current_buffer.validate_and_handle()

    for digit in range(1, count + 1 if count <= _DIGITS else 1):
        keys.add(str(digit), filter=first)(choose)
    return keys
