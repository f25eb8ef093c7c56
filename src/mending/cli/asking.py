"""Where the answers of a conversation come from: a terminal, a pipe, or a file."""

import os
import sys
import time
from collections.abc import Callable, Mapping
from io import TextIOBase
from pathlib import Path
from typing import Any, TextIO

import click
from rich.console import RenderableType

from mending.app.conversation import WRITE, Guide, chosen_of
from mending.case import listed, load_case, volumes_of
from mending.case.guide import NOTES, Prompt, PromptKind, Reply, ReplyKind, parse
from mending.cli.config import interactive, this_host
from mending.cli.output import note
from mending.cli.show.cases import (
    clock_words,
    show_card,
    show_explained,
    show_prompt,
    show_statement,
    show_volumes,
)
from mending.cli.show.repairs import show_mend, show_written
from mending.cli.show.tables import emit, say, text
from mending.disk.locked import GivenKey
from mending.knowledge import UNKNOWN, Sign
from mending.model import (
    InputError,
    MendingError,
    RefusedError,
    RepairFailedError,
    UsageError,
    clean_text,
)
from mending.reason import ROLES, Statement
from mending.repair.run import Preview

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


# A conversation: prompts shown, lines taken, answers recorded, until nothing more is asked.


_TAKEN = {ReplyKind.NOTE: "noted", ReplyKind.CODE: "recorded"}
_CHOOSE = "Please give a number or a name from the list; `?` explains."
_UNCLEAR = {
    PromptKind.PUT_BACK: "Put it back and say done, or type why it stays.",
    PromptKind.MINUTES: "Please give a number of minutes, or an empty line.",
    PromptKind.WORDS: "Please say it in your own words, or give an empty line.",
}


def follow(guide: Guide, answers: Answers, quiet: bool = False) -> Prompt | None:
    """Ask until nothing more is asked; returns the prompt at which the person stopped."""
    while (prompt := guide.next()) is not None:
        if prompt.card is not None and not quiet:
            say(show_card(prompt.card, str(guide.case.folder)))
        planned = _planned(guide, prompt, quiet) if prompt.kind is PromptKind.REPAIR else None
        if not quiet:
            say(show_prompt(prompt))
        is_answered = False
        while not is_answered:
            line = answers(prompt)
            reply = parse(prompt, line) if line is not None else Reply(ReplyKind.STOP)
            if reply.kind is ReplyKind.STOP:
                return prompt
            if prompt.kind is PromptKind.TAKE_UP and reply.words == "no":
                return None
            try:
                is_answered = _take(guide, prompt, reply, planned, quiet)
            except (UsageError, RefusedError) as error:
                guide.misunderstood += isinstance(error, UsageError)
                _complain(error, quiet)
            except RepairFailedError as error:  # it was recorded
                _complain(error, quiet)
                is_answered = True
    return None


def _planned(guide: Guide, prompt: Prompt, quiet: bool) -> Preview | MendingError:
    """What a repair would write, shown before it is asked for; or why it cannot be done now."""
    try:
        planned = guide.preview(prompt)
    except (UsageError, RefusedError) as error:
        return error
    if not quiet:
        say(text(""), show_mend(planned.result()))
    return planned


def _complain(error: MendingError, quiet: bool) -> None:
    note(f"  {error.says} {error.hint}".rstrip(), err=quiet)


def _take(
    guide: Guide,
    prompt: Prompt,
    reply: Reply,
    planned: Preview | MendingError | None,
    quiet: bool,
) -> bool:
    """Do what a reply asks for; returns whether that answers the prompt.

    Raises:
        UsageError, RefusedError: it does not, and nothing was recorded.
        RepairFailedError: everything was put back, and that is recorded.
    """
    shown: tuple[RenderableType, ...] = ()
    if reply.kind is ReplyKind.EXPLAIN:
        shown = (show_explained(prompt),)
    elif reply.kind is ReplyKind.UNCLEAR:
        read = guide.read(prompt, reply.words)
        if read is None:
            raise UsageError(_UNCLEAR.get(prompt.kind, _CHOOSE))
        guide.take(prompt, read)
        shown = (text(f"  taken as: {read.words} (`back` takes it back)", "soft"),)
    elif planned is not None and reply == Reply(ReplyKind.ANSWER, WRITE):
        if isinstance(planned, MendingError):
            raise planned
        shown = (show_written(guide.mend(prompt, planned)),)
    else:
        statement = guide.take(prompt, reply)
        if reply.kind is ReplyKind.VOLUME and (volumes := volumes_of(guide.case.state)):
            shown = (show_volumes(volumes),)
        elif statement is not None:
            shown = (show_statement(statement.sure), text("  (`back` takes it back)", "soft"))
        elif reply.kind in _TAKEN:
            shown = (text(f"  {_TAKEN[reply.kind]}: {reply.words}", "soft"),)
    if not quiet:
        say(*shown)
    return reply.kind not in {ReplyKind.EXPLAIN, ReplyKind.NOTE, ReplyKind.VOLUME}


def clock(prompt: Prompt, minutes: float) -> str:
    """What stands below a step while it runs."""
    return clock_words(prompt.card, minutes) if prompt.card is not None else ""


# Questions to the person at the keyboard. Never called when nobody can answer.
#
# At each of them the words that `work` knows are known, too: `?` explains, `back` goes to the
# question before, `stop` ends the questions, as the end of the input does; what was answered is
# kept.


_EXPLAIN, _BACK, _STOP = frozenset({"?", "help"}), "back", "stop"


class GoBackError(Exception):
    """The person wants the question before."""


class NoMoreError(Exception):
    """The person wants no more questions."""


def choose(question: str, answers: Mapping[str, str], unknown: bool = True) -> str:
    """One of the answers by its number or its name; `unknown` is the last one unless ruled out."""
    choices = {**answers, UNKNOWN: "cannot tell"} if unknown else dict(answers)
    note(question)
    for number, (name, says) in enumerate(choices.items(), 1):
        note(f"  {number:>2}  {name:<16} {clean_text(says)}")
    names = list(choices)
    while True:
        word = asked("  number or name: ", names[-1] if unknown else "")
        if word in _EXPLAIN:
            note("  A number or a name of the list; back: the question before; stop: no more.")
            continue
        picked = names[int(word) - 1] if word.isdigit() and 0 < int(word) <= len(names) else word
        if picked in choices:
            return str(picked)
        note(f"  Please type a number from 1 to {len(names)}, or one of the names.")


def asked(question: str, default: str = "") -> str:
    """A line that answers a question, `default` for an empty one.

    Raises:
        GoBackError, NoMoreError
    """
    try:
        word = click.prompt(
            clean_text(question), prompt_suffix="", default=default, show_default=False
        )
    except click.Abort as error:
        if isinstance(error.__cause__ or error.__context__, KeyboardInterrupt):
            raise
        raise NoMoreError from error
    line = str(word).strip()
    if line == _BACK:
        raise GoBackError
    if line == _STOP:
        raise NoMoreError
    return line


def choose_answer(sign: Sign) -> str:
    """An answer to a sign or fact."""
    return choose(sign.asks, {name: answer.says for name, answer in sign.answers.items()})


# The key of a locked volume, asked for without echo or read from a file; it goes nowhere else.


_LONGEST = 8 << 20


def given_key(ask: bool, key_file: str | None, patient: bool) -> GivenKey | None:
    """A key, and what it may cost; None where none is given.

    Args:
        key_file: a file, all of whose bytes are the key; `/dev/fd/N` for a descriptor.
        patient: it may cost anything.

    Raises:
        InputError: the file cannot be read, or is no key.
    """
    secret = _secret(ask, key_file)
    if secret is None:
        return None
    return GivenKey(secret, _memory(), _allowing(), patient)


def _secret(ask: bool, key_file: str | None) -> bytes | None:
    if key_file is not None:
        try:
            with Path(key_file).open("rb") as file:
                data = file.read(_LONGEST + 1)
        except (OSError, ValueError) as error:
            says = error.strerror if isinstance(error, OSError) else "no such name can be"
            raise InputError(f"{key_file} cannot be read: {says}.") from error
        if not 0 < len(data) <= _LONGEST:
            raise InputError(f"{key_file} has {len(data)} bytes, which are no key.")
        return data
    if not ask:
        return None
    if sys.stdin.isatty():
        words: str = click.prompt("passphrase", hide_input=True, err=True)
        return words.encode()
    return sys.stdin.buffer.readline().rstrip(b"\n")


def _allowing() -> Callable[[str], bool] | None:
    ask = this_host().ask
    return None if ask is None else lambda says: ask(f"{says} Try it?")


def _memory() -> int:
    """Bytes of memory of this machine; 0 where it does not tell."""
    try:
        return os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
    except (OSError, ValueError):
        return 0


# A listing of volumes, taken down and judged; of two alike the person says which one it is.


_MOST = 1 << 16
"""Characters of a listing."""


def hear_volumes(
    case: str, listing: TextIO | None, chosen: Mapping[str, str], quiet: bool, as_json: bool
) -> None:
    """Record a listing, or which of its volumes somebody named, and show which is which.

    Raises:
        UsageError: it is no listing, or too long; nothing is recorded.
    """
    text = listing.read(_MOST + 1) if listing is not None else ""
    if len(text) > _MOST:
        raise UsageError("That is longer than any listing of volumes.", "Give the listing alone.")
    hand = this_host().hand
    known = load_case(Path(case))
    if listing is None and not known.state.listed:
        raise UsageError("There is no listing yet.", f"mending saw {case} --volumes -")
    known = listed(known, hand, text, chosen)
    result = volumes_of(known.state)
    assert result is not None
    if interactive() and not (quiet or as_json):
        while result.questions and any(result.questions.values()):
            role, names = next((role, names) for role, names in result.questions.items() if names)
            say(show_volumes(result, case))
            name = click.prompt(
                f"Which is {ROLES[role]}", type=click.Choice([*names, "later"]), err=True
            )
            if name == "later":
                break
            known = listed(known, hand, "", {role: name})
            result = volumes_of(known.state)
            assert result is not None
    emit(result, as_json, lambda volumes: show_volumes(volumes, case))


# What somebody said, shown as it was understood, with numbers by which to strike out what was not
# meant.


_ASKS = "Enter keeps it; a number strikes one out, or takes one in that is marked ?"


def confirmed(statement: Statement) -> Statement:
    """A statement with what the person at the keyboard says of it: one key keeps it as it stands,
    numbers change their rows.
    """
    say(show_statement(statement))
    count = len(statement.readings)
    if not count:
        return statement
    while True:
        line = click.prompt(_ASKS, default="", show_default=False, err=True)
        words = line.replace(",", " ").split()
        if all(word.isdecimal() and 0 < int(word) <= count for word in words):
            return chosen_of(statement, {int(word) for word in words})
        note(f"Please give numbers from 1 to {count}, or Enter alone.", err=True)
