"""The one place where a sentence, a question or a document leaves the program without a table.

Whatever is in it may come from outside (the name of a file, a label, a log), so it is cleaned here:
control characters never reach a terminal, and of names that are no UTF-8 the bytes are shown.
Tables are cleaned by `show.console`, bars by `progress`, which use the same function.
"""

import click

from mending.model import clean_text

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
