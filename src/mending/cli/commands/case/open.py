"""`mending open CASE`"""

from collections.abc import Mapping
from pathlib import Path

import click

from mending.app.evidence import start_case
from mending.app.listening import understand_notes
from mending.case import case_result, check_new_name
from mending.case.guide import FIRST_WORDS
from mending.cli import options
from mending.cli.asking import prompts
from mending.cli.asking.listening import confirmed
from mending.cli.config import load_config
from mending.cli.echo import note
from mending.cli.host import interactive, this_host
from mending.cli.packs import base_codes, base_pack
from mending.cli.show.case.cases import show_case, show_statement
from mending.cli.show.console import emit, say
from mending.knowledge import Pack

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
def command(
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
    open_facts = [fact for fact in pack.facts.values() if fact.take_in and fact.id not in facts]
    open_notes = [name for name in FIRST_WORDS if name not in notes]
    number = 0
    while number < len(open_facts) + len(open_notes):
        try:
            if number < len(open_facts):
                fact = open_facts[number]
                answered[fact.id] = prompts.choose_answer(fact)
            else:
                name = open_notes[number - len(open_facts)]
                told[name] = prompts.asked(f"{FIRST_WORDS[name][0]}: ")
        except prompts.GoBackError:
            number = max(number - 1, 0)
            continue
        except prompts.NoMoreError:
            note("")
            break
        number += 1
    return answered, {name: words for name, words in told.items() if words}
