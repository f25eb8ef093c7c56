"""What somebody said, shown as it was understood, with numbers by which to strike out what was not
meant.
"""

import click

from mending.app.listening import chosen_of
from mending.cli.echo import note
from mending.cli.show.case.cases import show_statement
from mending.cli.show.console import say
from mending.reason import Statement

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
