"""`mending ask CASE`"""

from pathlib import Path

import click

from mending.case import learn, load_case, question_of, saw
from mending.cli import asking, options, world
from mending.cli.show import emit, question_pays, say, show_question
from mending.cli.show.console import text
from mending.knowledge import base_pack


@click.command("ask")
@options.case_argument
@options.as_json
def command(case: str, as_json: bool) -> None:
    """Ask the most telling question next. On a terminal the answer is recorded at once."""
    pack, known = base_pack(), load_case(Path(case))
    question = question_of(known.state, pack)
    if question.sign is None or as_json or not world.interactive():
        emit(question, as_json, lambda one: show_question(one, case))
        return
    say(text(question_pays(question), "dim"))
    if question.sign in pack.facts:
        answer = asking.choose_answer(pack.facts[question.sign])
        learn(known, pack, world.hand(), {question.sign: answer}, {})
    else:
        answer = asking.choose_answer(pack.signs[question.sign])
        saw(known, pack, world.hand(), {question.sign: answer})
    click.echo(f"Recorded: {question.sign}={answer}")
