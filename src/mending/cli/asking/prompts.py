"""Questions to the person at the keyboard. Never called when nobody can answer.

At each of them the words that `work` knows are known, too: `?` explains, `back` goes to the
question before, `stop` ends the questions, as the end of the input does; what was answered is kept.
"""

from collections.abc import Mapping

import click

from mending.cli.echo import note
from mending.knowledge import UNKNOWN, Sign
from mending.model import clean_text

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
