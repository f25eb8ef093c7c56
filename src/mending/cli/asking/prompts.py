"""Questions to the person at the keyboard. Never called when nobody can answer."""

from collections.abc import Mapping

import click

from mending.cli.echo import note
from mending.knowledge import UNKNOWN, Sign
from mending.model import clean_text


def choose(question: str, answers: Mapping[str, str], unknown: bool = True) -> str:
    """One of the answers by its number or its name; `unknown` is the last one unless ruled out."""
    choices = {**answers, UNKNOWN: "cannot tell"} if unknown else dict(answers)
    note(question)
    for number, (name, says) in enumerate(choices.items(), 1):
        note(f"  {number:>2}  {name:<16} {clean_text(says)}")
    names = list(choices)
    while True:
        word = click.prompt(
            "  number or name",
            prompt_suffix=": ",
            default=names[-1] if unknown else None,
            show_default=False,
        )
        picked = names[int(word) - 1] if word.isdigit() and 0 < int(word) <= len(names) else word
        if picked in choices:
            return str(picked)
        note(f"  Please type a number from 1 to {len(names)}, or one of the names.")


def choose_answer(sign: Sign) -> str:
    """An answer to a sign or fact."""
    return choose(sign.asks, {name: answer.says for name, answer in sign.answers.items()})
