"""`mending card STEP`"""

import click
from rich.console import RenderableType

from mending.app.own_cards import (
    FILE,
    OwnCardResult,
    add_own_line,
    keep_draft,
    keep_own_text,
    own_text,
)
from mending.cli import options
from mending.cli.echo import confirmed, note
from mending.cli.host import interactive
from mending.cli.packs import base_pack, own_words
from mending.cli.show.case.cards import show_own_card
from mending.cli.show.console import emit
from mending.knowledge import PLACES, Pack
from mending.model import UsageError

_HELP = "# What you type and click every day for {step}; these two lines go.\n# Places: {places}\n"


@click.command("card")
@click.argument("step", shell_complete=options.complete_steps)
@click.option("--line", "lines", multiple=True, help="A line to add at the end; repeatable.")
@click.option("--family", default="", metavar="FAMILY", help="Only for nt, linux or darwin.")
@options.as_json
def command(step: str, lines: tuple[str, ...], family: str, as_json: bool) -> None:
    """Write down how a step is done here, in the shop's own words: names and command lines of every
    day. They stand first on the step's card. Without --line an editor opens; an empty text takes
    them away.

    `{system-letter}` and other places in braces are filled from the case.
    """
    pack, folder = base_pack(), own_words()
    if step not in pack.steps:
        raise UsageError(f"There is no step called {step!r}.", "Steps: mending plan CASE")
    for line in lines:
        add_own_line(folder, pack, step, line, family)
    if not lines and interactive() and not as_json:
        _edit(pack, step, family)
    result = OwnCardResult(
        step=step, family=family, text=own_text(folder, step, family), file=str(folder / FILE)
    )
    emit(result, as_json, _shown)


def _edit(pack: Pack, step: str, family: str) -> None:
    """Let the text be edited until it fits, or is given up."""
    folder, places = own_words(), ", ".join(f"{{{name}}}" for name in PLACES)
    text = own_text(folder, step, family)
    while True:
        head = _HELP.format(step=step, places=places)
        edited = click.edit(head + text, extension=".txt")
        if edited is None:
            return
        ours = set(head.splitlines())
        text = "".join(f"{line}\n" for line in edited.splitlines() if line not in ours)
        try:
            keep_own_text(folder, pack, step, text, family)
        except UsageError as error:
            note(f"{error.says}", err=True)
            if not confirmed("Edit it again? Otherwise the old text stays.", default=True):
                draft = keep_draft(folder, step, text)
                raise UsageError(error.says, f"What you typed is kept in {draft}") from error
        else:
            return


def _shown(card: OwnCardResult) -> RenderableType:
    return show_own_card(card.step, card.text, card.file)
