"""`mending close CASE`"""

from collections.abc import Mapping
from pathlib import Path

import click

from mending.app.guiding import Guide
from mending.case import case_result, closing, learn, load_case
from mending.cli import options
from mending.cli.asking.answers import answers_from
from mending.cli.asking.conversation import clock, follow
from mending.cli.config import load_config
from mending.cli.host import interactive, this_host
from mending.cli.packs import base_codes, base_pack
from mending.cli.show.case.cases import show_case
from mending.cli.show.console import emit, say, text
from mending.model import UsageError


@click.command("close")
@options.case_argument
@click.option(
    "--cause",
    metavar="CAUSE",
    shell_complete=options.complete_causes,
    help="What was wrong: an id from `causes`, or words.",
)
@click.option(
    "--fix",
    metavar="STEP",
    shell_complete=options.complete_steps,
    help="What mended it: a step that was done, or words.",
)
@click.option(
    "--put-back",
    "put_back",
    multiple=True,
    metavar="STEP=DONE|WHY",
    help="That a temporary setting is put back, or why it stays; repeatable.",
)
@click.option(
    "--elsewhere", is_flag=True, help="The fix was done by somebody else, or is not in the record."
)
@click.option("--minutes", type=click.FloatRange(0, 1e5), help="Minutes of work, all in all.")
@click.option(
    "--handed-over",
    "to",
    metavar="TO",
    help="It does not work yet, and somebody else goes on: who.",
)
@click.option("--reopen", is_flag=True, help="Go on with a case that was closed or handed over.")
@options.shop_fields
@options.as_json
def command(
    case: str,
    cause: str | None,
    fix: str | None,
    put_back: tuple[str, ...],
    minutes: float | None,
    elsewhere: bool,
    to: str | None,
    reopen: bool,
    shop: Mapping[str, str],
    as_json: bool,
) -> None:
    """Close a case: it works from cold, cause and fix are named, nothing temporary is left. What is
    not named is asked for on a terminal.
    """
    known, hand, pack = load_case(Path(case)), this_host().hand, base_pack()
    if reopen:
        emit(case_result(closing.reopened(known, hand), pack), as_json, show_case)
        return
    known = learn(known, pack, hand, {}, {}, shop) if shop else known
    if to is not None:
        handed = closing.handed_over(known, pack, hand, to, cause)
        emit(case_result(handed, pack), as_json, show_case)
        return
    said = options.pairs(put_back)
    if (cause is None or fix is None) and interactive() and not as_json and known.state.works:
        known = closing.checked(known, hand, _said(cause, fix, said, minutes))
        guide = Guide(known, pack, base_codes(), this_host())
        follow(guide, answers_from(None, clock, one_key=load_config().one_key))
        say(text(""), show_case(case_result(guide.case, pack)))
        return
    if cause is None or fix is None:
        missing = "--cause" if cause is None else "--fix"
        raise UsageError(f"{missing} is missing: what was wrong, and what mended it?")
    ended = closing.closed(known, pack, hand, cause, fix, said, minutes, elsewhere)
    emit(case_result(ended, pack), as_json, show_case)


def _said(
    cause: str | None, fix: str | None, put_back: Mapping[str, str], minutes: float | None
) -> dict[str, str]:
    """What the options answer already, so that it is not asked."""
    told = {closing.CAUSE: cause, closing.FIX: fix}
    told |= {closing.put_back_key(step): says for step, says in put_back.items()}
    told |= {closing.MINUTES: f"{minutes:g}"} if minutes is not None else {}
    return {name: says for name, says in told.items() if says}
