"""`mending code TEXT`"""

import click

from mending.cli import options
from mending.cli.config import base_codes
from mending.cli.show.crashes import show_code
from mending.cli.show.tables import emit
from mending.crash.lookup import look_up
from mending.model import UsageError


@click.command("code")
@click.argument("words", nargs=-1, metavar="TEXT")
@options.as_json
def code_command(words: tuple[str, ...], as_json: bool) -> None:
    """Explain a stop code, a status code or a message: by number, by name, half-remembered, or as
    the screen has it.
    """
    text = " ".join(words).strip()
    if not text:
        raise UsageError("Nothing to explain.", "For instance: mending code 7b")
    emit(look_up(text, base_codes()), as_json, show_code)
