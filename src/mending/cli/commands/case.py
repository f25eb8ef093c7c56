"""`mending open CASE`"""

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import TextIO

import click
import msgspec

from mending.app.conversation import understand_notes
from mending.app.evidence import start_case
from mending.case import (
    Case,
    case_result,
    cases_result,
    check_new_name,
    learn,
    list_cases,
    load_case,
    question_of,
    saw,
)
from mending.case.guide import FIRST_WORDS
from mending.cli import asking, options
from mending.cli.asking import confirmed
from mending.cli.config import base_codes, base_pack, interactive, load_config, this_host
from mending.cli.options import attach_and_read
from mending.cli.output import note
from mending.cli.show.cases import SignResult, show_case, show_cases, show_signs, show_statement
from mending.cli.show.reasoning import question_pays, show_question
from mending.cli.show.tables import emit, say, text
from mending.knowledge import Pack, Sign
from mending.model import InputError, UsageError
from mending.plan import QuestionResult

_NOTES = ("screen", "since", "changed")


@click.command("open")
@options.case_argument
@click.option(
    "--disk",
    "disks",
    multiple=True,
    help="The PC's disk: an image, a block device, or the folder where its system is mounted;"
    " repeatable, the one that it starts from first.",
)
@click.option(
    "--fact",
    "facts",
    multiple=True,
    metavar="NAME=ANSWER",
    shell_complete=options.complete_facts,
    help="What is known, e.g. firmware=uefi; repeatable.",
)
@click.option("--screen", help="What the screen shows, word for word.")
@click.option("--since", help="Since when, in your own words.")
@click.option("--changed", help="What changed just before, in your own words.")
@click.option("--quiet", is_flag=True, help="Ask nothing.")
@options.shop_fields
@options.as_json
def open_command(
    case: str,
    disks: tuple[str, ...],
    facts: tuple[str, ...],
    screen: str | None,
    since: str | None,
    changed: str | None,
    quiet: bool,
    shop: Mapping[str, str],
    as_json: bool,
) -> None:
    """Start a case. Asks the few things that matter, or takes them as options; unknown is always an
    answer.
    """
    pack = base_pack()
    check_new_name(Path(case))
    known = options.pairs(facts)
    notes = {
        name: words for name, words in zip(_NOTES, (screen, since, changed), strict=True) if words
    }
    if interactive() and not (quiet or as_json):
        known, notes = _take_in(pack, known, notes)
    statements = understand_notes(notes, pack, base_codes()) if notes else ()
    if interactive() and not (quiet or as_json):
        statements = tuple(confirmed(statement) for statement in statements)
    elif not as_json:
        for statement in statements:
            say(show_statement(statement))
    kept = {**load_config().shop, **shop}
    opened = start_case(case, disks, pack, known, notes, this_host(), statements, kept)
    emit(case_result(opened, pack), as_json, show_case)


def _take_in(
    pack: Pack, facts: Mapping[str, str], notes: Mapping[str, str]
) -> tuple[dict[str, str], dict[str, str]]:
    """What is not known yet, asked for one by one. Whoever stops, or ends the input, keeps what was
    answered until then.
    """
    answered, told = dict(facts), dict(notes)
    open_facts = [
        fact for fact in pack.facts.values() if fact.asked_at_open and fact.id not in facts
    ]
    open_notes = [name for name in FIRST_WORDS if name not in notes]
    number = 0
    while number < len(open_facts) + len(open_notes):
        try:
            if number < len(open_facts):
                fact = open_facts[number]
                answered[fact.id] = asking.choose_answer(fact)
            else:
                name = open_notes[number - len(open_facts)]
                told[name] = asking.asked(f"{FIRST_WORDS[name][0]}: ")
        except asking.GoBackError:
            number = max(number - 1, 0)
            continue
        except asking.NoMoreError:
            note("")
            break
        number += 1
    return answered, {name: words for name, words in told.items() if words}


# `mending add CASE FILE...`


@click.command("add")
@options.case_argument
@click.argument("files", nargs=-1, required=True)
@click.option(
    "--disk", "as_disk", is_flag=True, help="Take it for the PC's disk, whatever it begins with."
)
@click.option("--beside", is_flag=True, help="Take it for a further disk of the PC.")
@options.as_json
def add_command(
    case: str, files: tuple[str, ...], as_disk: bool, beside: bool, as_json: bool
) -> None:
    """Attach evidence to a case; the kind is told by the content. A disk is traced at once."""
    grown, host = load_case(Path(case)), this_host()
    for file in files:
        grown = attach_and_read(grown, file, host, as_disk, beside)
    emit(case_result(grown, base_pack()), as_json, show_case)


# `mending saw CASE WORDS...`


@click.command("saw")
@options.case_argument
@click.argument("words", nargs=-1, shell_complete=options.complete_said)
@click.option(
    "--fact",
    "facts",
    multiple=True,
    metavar="NAME=ANSWER",
    shell_complete=options.complete_facts,
    help="A fact that has come to light; repeatable.",
)
@click.option(
    "--volumes",
    "listing",
    type=click.File("r", errors="replace"),
    help="A listing of volumes, pasted (-) or in a file: which one is which.",
)
@click.option(
    "--letter",
    "chosen",
    multiple=True,
    metavar="ROLE=NAME",
    help="Of the listing: which volume is the system, boot, recovery, stick, disc, older.",
)
@click.option("--quiet", is_flag=True, help="Ask nothing; take what is sure.")
@options.as_json
def saw_command(
    case: str,
    words: tuple[str, ...],
    facts: tuple[str, ...],
    listing: TextIO | None,
    chosen: tuple[str, ...],
    quiet: bool,
    as_json: bool,
) -> None:
    """Record what was seen: SIGN=ANSWER, code=0x7b, or what somebody says in their own words.

    `unknown` takes an answer back.
    """
    if listing is not None or chosen:
        if words or facts:
            raise UsageError("A listing of volumes is given by itself.", "Say the rest afterwards.")
        from mending.cli.asking import hear_volumes  # noqa: PLC0415 - lazy: as below

        hear_volumes(case, listing, options.pairs(chosen), quiet, as_json)
        return
    if not words and not facts:
        raise UsageError("Nothing to record.", "See: mending signs")
    # lazy: who completes an answer at a prompt waits for whatever is loaded above
    from mending.app.conversation import take, told_apart, understand  # noqa: PLC0415
    from mending.case import case_result, load_case  # noqa: PLC0415
    from mending.case.results import changes  # noqa: PLC0415
    from mending.cli.asking import confirmed  # noqa: PLC0415
    from mending.cli.config import interactive, this_host  # noqa: PLC0415
    from mending.cli.output import note  # noqa: PLC0415
    from mending.cli.show.cases import show_recorded, show_statement  # noqa: PLC0415
    from mending.cli.show.tables import emit, say  # noqa: PLC0415

    pack, codes, known = base_pack(), base_codes(), load_case(Path(case))
    told = told_apart([*words, *facts], pack, codes)
    statements = understand(told.said, pack, codes)
    if interactive() and not (quiet or as_json):
        statements = tuple(confirmed(statement) for statement in statements)
    elif not as_json:
        for statement in statements:
            say(show_statement(statement))
    grown = take(known, pack, this_host().hand, told, statements)
    for sentence in changes(known.state, grown.state, pack, told.said):
        note(sentence, err=True)
    what = [(f"saw {name}", answer) for name, answer in told.signs.items()]
    what += [*told.facts.items(), *(("saw code", code.words) for code in told.codes)]
    emit(case_result(grown, pack), as_json, lambda case: show_recorded(case, what))


# `mending ask CASE`


@click.command("ask")
@options.case_argument
@options.as_json
def ask_command(case: str, as_json: bool) -> None:
    """Ask the most telling question next. On a terminal the answer is recorded at once."""
    pack, known = base_pack(), load_case(Path(case))
    question = question_of(known.state, pack)
    if question.sign is None or as_json or not interactive():
        emit(question, as_json, lambda question: show_question(question, case))
        return
    say(text(question_pays(question), "soft"))
    try:
        _answer(known, pack, question)
    except (asking.GoBackError, asking.NoMoreError):
        note("Nothing was recorded.")


def _answer(known: Case, pack: Pack, question: QuestionResult) -> None:
    """Ask, and record the answer."""
    assert question.sign is not None
    if question.sign in pack.facts:
        answer = asking.choose_answer(pack.facts[question.sign])
        learn(known, pack, this_host().hand, {question.sign: answer}, {})
    else:
        answer = asking.choose_answer(pack.signs[question.sign])
        saw(known, pack, this_host().hand, {question.sign: answer})
    note(f"Recorded: {question.sign}={answer}")


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
