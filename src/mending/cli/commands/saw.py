"""`mending saw CASE WORDS...`"""

from pathlib import Path
from typing import TextIO

import click

from mending.cli import options
from mending.cli.config import base_codes, base_pack
from mending.model import UsageError


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
