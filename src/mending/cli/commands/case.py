"""A case begun, and what is put to it: `open`, `add`."""

from collections.abc import Mapping
from pathlib import Path

import click

from mending.app.conversation import hear_file, understand_notes
from mending.app.evidence import attach, holds_records, read_case, start_case
from mending.app.host import Host
from mending.case import (
    Case,
    case_result,
    check_new_name,
    load_case,
)
from mending.case.guide import FIRST_WORDS
from mending.cli import asking, options
from mending.cli.asking import confirmed
from mending.cli.config import base_codes, base_pack, interactive, load_config, this_host
from mending.cli.output import note
from mending.cli.show.cases import show_case, show_statement
from mending.cli.show.tables import emit, say
from mending.knowledge import Pack
from mending.model import UsageError

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
        grown = _attach_and_read(grown, file, host, as_disk, beside)
    emit(case_result(grown, base_pack()), as_json, show_case)


# Evidence attached and read, where an extra that is missing is told and not the end.


def _attach_and_read(
    case: Case, path: str, host: Host, as_disk: bool = False, beside: bool = False
) -> Case:
    """Attach a file; what may tell of crashes is read. The addition counts even where an extra is
    missing: then what it would take is said.
    """
    grown = attach(case, path, host, as_disk, beside)
    if any(each.sort == "other" for each in grown.state.evidence[len(case.state.evidence) :]):
        note(
            f"{path} is kept with the case, but what it is was not recognised: nothing was read"
            " from it.",
            err=True,
        )
    if not holds_records(grown):
        return grown
    try:
        known = read_case(grown, host)
        if known.state.clues != case.state.clues:
            return known
        return hear_file(known, base_pack(), base_codes(), host)
    except UsageError as error:
        note(f"Attached, but not read yet. {error} {error.hint}", err=True)
        return grown
