"""What there is: `signs` to be seen, `cases` in a folder."""

from collections.abc import Iterable, Mapping
from pathlib import Path

import click
import msgspec

from mending.case import (
    cases_result,
    list_cases,
)
from mending.cli import options
from mending.cli.config import base_pack
from mending.cli.show.cases import SignResult, show_cases, show_signs
from mending.cli.show.tables import emit
from mending.knowledge import Pack, Sign
from mending.model import InputError, UsageError

_NOTES = ("screen", "since", "changed")


# `mending signs [WORD|CASE]`


class SignsResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="signs/1"):
    """Everything that can be seen, and everything that can be known beforehand, by id."""

    signs: Mapping[str, SignResult]
    facts: Mapping[str, SignResult]


def _signs_result(signs: Iterable[Sign], facts: Iterable[Sign]) -> SignsResult:
    return SignsResult(signs=_sign_results(signs), facts=_sign_results(facts))


def _sign_results(signs: Iterable[Sign]) -> dict[str, SignResult]:
    found = {}
    for sign in signs:
        values = msgspec.structs.asdict(sign)
        for name, called in _CALLED.items():
            values[called] = values.pop(name)
        found[sign.id] = SignResult(**values)
    return found


_CALLED = {"asked_at_open": "take_in", "call_order": "first", "not_asked_if": "pointless"}
"""Fields of a sign that packs call otherwise than the document, whose names stay."""


@click.command("signs")
@click.argument("about", metavar="[WORD|CASE]", required=False)
@click.option("--facts", is_flag=True, help="List the facts that `open --fact` takes instead.")
@options.as_json
def signs_command(about: str | None, facts: bool, as_json: bool) -> None:
    """List what can be seen or tried at a PC, and the answers that `saw` takes.

    With a word: those that speak of it. With a case: those that are still worth asking, the most
    telling first.
    """
    pack = base_pack()
    result = _signs_result(pack.signs.values(), pack.facts.values())
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
        return _signs_result(asked, ())
    word = about.lower()
    signs, facts = pack.signs.values(), pack.facts.values()
    found = _signs_result(
        [sign for sign in signs if _speaks_of(sign, word)],
        [fact for fact in facts if _speaks_of(fact, word)],
    )
    if not (found.signs or found.facts):
        raise UsageError(f"No sign or fact speaks of {about!r}.", "See all: mending signs")
    return found


def _speaks_of(sign: Sign, word: str) -> bool:
    texts = [sign.id, sign.asks]
    for answer in sign.answers.values():
        texts += [answer.says, *answer.words]
    return any(word in text.lower() for text in texts)


# `mending cases [FOLDER]`


@click.command("cases")
@click.argument("folder", default=".")
@options.as_json
def cases_command(folder: str, as_json: bool) -> None:
    """List the cases that lie in FOLDER (here, unless named)."""
    if not Path(folder).is_dir():
        raise InputError(f"There is no folder {folder}.")
    emit(cases_result(list_cases(Path(folder)), base_pack()), as_json, show_cases)
