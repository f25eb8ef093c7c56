"""`mending signs [WORD|CASE]`"""

from collections.abc import Mapping
from pathlib import Path

import click
import msgspec

from mending.cli import options
from mending.cli.packs import base_pack
from mending.cli.show.case.signs import show_signs
from mending.cli.show.console import emit
from mending.knowledge import Pack, Sign
from mending.model import UsageError


class SignsResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="signs/1"):
    """Everything that can be seen, and everything that can be known beforehand, by id."""

    signs: Mapping[str, Sign]
    facts: Mapping[str, Sign]


@click.command("signs")
@click.argument("about", metavar="[WORD|CASE]", required=False)
@click.option("--facts", is_flag=True, help="List the facts that `open --fact` takes instead.")
@options.as_json
def command(about: str | None, facts: bool, as_json: bool) -> None:
    """List what can be seen or tried at a PC, and the answers that `saw` takes.

    With a word: those that speak of it. With a case: those that are still worth asking, the most
    telling first.
    """
    pack = base_pack()
    result = SignsResult(signs=pack.signs, facts=pack.facts)
    if about is not None:
        result = _about(about, pack)
    listed = result.facts if facts else result.signs
    if about is not None and not (result.signs if facts else listed):
        listed = result.facts  # a word that only facts speak of
    emit(result, as_json, lambda _: show_signs(listed.values(), by_heading=about is None))


def _about(about: str, pack: Pack) -> SignsResult:
    if Path(about).is_dir():
        from mending.case import load_case, open_questions  # noqa: PLC0415 - lazy: for a case

        asked = open_questions(load_case(Path(about)).state, pack)
        return SignsResult(signs={sign.id: sign for sign in asked}, facts={})
    word = about.lower()
    found = SignsResult(
        signs={name: sign for name, sign in pack.signs.items() if _speaks_of(sign, word)},
        facts={name: fact for name, fact in pack.facts.items() if _speaks_of(fact, word)},
    )
    if not (found.signs or found.facts):
        raise UsageError(f"No sign or fact speaks of {about!r}.", "See all: mending signs")
    return found


def _speaks_of(sign: Sign, word: str) -> bool:
    texts = [sign.id, sign.asks]
    for answer in sign.answers.values():
        texts += [answer.says, *answer.words]
    return any(word in text.lower() for text in texts)
