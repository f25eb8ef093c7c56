"""`mending saw CASE SIGN=ANSWER...`"""

from pathlib import Path

import click

from mending.case import case_result, learn, load_case, saw
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.show.cases import show_case
from mending.cli.show.console import emit
from mending.model import UsageError


@click.command("saw")
@options.case_argument
@click.argument("signs", nargs=-1)
@click.option(
    "--fact",
    "facts",
    multiple=True,
    metavar="NAME=ANSWER",
    help="A fact that has come to light; repeatable.",
)
@options.as_json
def command(case: str, signs: tuple[str, ...], facts: tuple[str, ...], as_json: bool) -> None:
    """Record what was seen, as SIGN=ANSWER; `unknown` takes an answer back."""
    if not signs and not facts:
        raise UsageError("Nothing to record.", "See: mending signs")
    pack, known = base_pack(), load_case(Path(case))
    if signs:
        known = saw(known, pack, this_host().hand, options.pairs(signs))
    if facts:
        known = learn(known, pack, this_host().hand, options.pairs(facts), {})
    emit(case_result(known), as_json, show_case)
