"""`mending ask CASE`"""

from pathlib import Path

import click

from mending.case import Case, learn, load_case, question_of, saw
from mending.cli import options
from mending.cli.asking import prompts
from mending.cli.echo import note
from mending.cli.host import interactive, this_host
from mending.cli.packs import base_pack
from mending.cli.show.console import emit, say, text
from mending.cli.show.reasoning import question_pays, show_question
from mending.knowledge import Pack
from mending.plan import QuestionResult


@click.command("ask")
@options.case_argument
@options.as_json
def command(case: str, as_json: bool) -> None:
    """Ask the most telling question next. On a terminal the answer is recorded at once."""
    pack, known = base_pack(), load_case(Path(case))
    question = question_of(known.state, pack)
    if question.sign is None or as_json or not interactive():
        emit(question, as_json, lambda question: show_question(question, case))
        return
    say(text(question_pays(question), "soft"))
    try:
        _answer(known, pack, question)
    except (prompts.GoBackError, prompts.NoMoreError):
        note("Nothing was recorded.")


def _answer(known: Case, pack: Pack, question: QuestionResult) -> None:
    """Ask, and record the answer."""
    assert question.sign is not None
    if question.sign in pack.facts:
        answer = prompts.choose_answer(pack.facts[question.sign])
        learn(known, pack, this_host().hand, {question.sign: answer}, {})
    else:
        answer = prompts.choose_answer(pack.signs[question.sign])
        saw(known, pack, this_host().hand, {question.sign: answer})
    note(f"Recorded: {question.sign}={answer}")
