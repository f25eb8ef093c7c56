"""`mending close CASE`"""

from pathlib import Path

import click

from mending.case import Case, case_result, causes_of, closing, load_case
from mending.cli import options, prompts
from mending.cli.host import interactive, this_host
from mending.cli.packs import base_pack
from mending.cli.show.cases import show_case
from mending.cli.show.console import emit
from mending.knowledge import UNKNOWN, Pack
from mending.model import UsageError

_CAUSES = 6
"""Causes to choose from: the likeliest."""


@click.command("close")
@options.case_argument
@click.option("--cause", metavar="CAUSE", help="What was wrong: an id from `causes`, or words.")
@click.option("--fix", metavar="STEP", help="What mended it: a step that was done, or words.")
@click.option(
    "--put-back",
    "put_back",
    multiple=True,
    metavar="STEP=DONE|WHY",
    help="That a temporary setting is put back, or why it stays; repeatable.",
)
@click.option("--reopen", is_flag=True, help="Go on with a closed case.")
@options.as_json
def command(
    case: str,
    cause: str | None,
    fix: str | None,
    put_back: tuple[str, ...],
    reopen: bool,
    as_json: bool,
) -> None:
    """Close a case: it starts from cold, cause and fix are named, nothing temporary is left."""
    known, hand, pack = load_case(Path(case)), this_host().hand, base_pack()
    if reopen:
        emit(case_result(closing.reopened(known, hand)), as_json, show_case)
        return
    said = options.pairs(put_back)
    asking = interactive() and not as_json and known.state.works
    if asking:
        cause, fix = cause or _cause(known, pack), fix or _fix(known)
        said = {**_put_back(known, pack, said), **said}
    if cause is None or fix is None:
        missing = "--cause" if cause is None else "--fix"
        raise UsageError(f"{missing} is missing: what was wrong, and what mended it?")
    emit(case_result(closing.closed(known, pack, hand, cause, fix, said)), as_json, show_case)


def _cause(case: Case, pack: Pack) -> str:
    ranked = causes_of(case.state, pack).causes[:_CAUSES]
    picked = prompts.choose("What was wrong?", {each.id: each.says for each in ranked})
    return picked if picked != UNKNOWN else str(click.prompt("  in your own words"))


def _fix(case: Case) -> str:
    steps = {attempt.step: attempt.report for attempt in case.state.tried}
    picked = prompts.choose("What mended it?", dict(steps)) if steps else UNKNOWN
    return picked if picked != UNKNOWN else str(click.prompt("  in your own words"))


def _put_back(case: Case, pack: Pack, said: dict[str, str]) -> dict[str, str]:
    answers = {}
    for step, words in closing.to_put_back(case, pack).items():
        if step not in said:
            is_back = click.confirm(f"{words} Is that done?", default=True)
            answers[step] = "done" if is_back else str(click.prompt("  why does it stay?"))
    return answers
