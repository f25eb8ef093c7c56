"""What follows from a case: the next question (`ask`), `causes`, `plan`."""

from pathlib import Path

import click
import msgspec

from mending.case import (
    Case,
    cards_of,
    causes_of,
    learn,
    load_case,
    plan_of,
    question_of,
    saw,
    why_of,
)
from mending.case.reasoning import turns
from mending.cli import asking, options
from mending.cli.config import (
    CARES,
    base_pack,
    interactive,
    load_config,
    this_host,
)
from mending.cli.figures import draw_beliefs, draw_minutes, wanted_figure
from mending.cli.output import note
from mending.cli.show.reasoning import (
    question_pays,
    show_causes,
    show_plan,
    show_question,
    show_why,
)
from mending.cli.show.tables import emit, say, text
from mending.knowledge import Pack
from mending.plan import QuestionResult

_NOTES = ("screen", "since", "changed")


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


# `mending causes CASE`


@click.command("causes")
@options.case_argument
@click.option(
    "--all", "everything", is_flag=True, help="Every cause of the pack, also the unlikely ones."
)
@options.figure("Draw the causes, and what was believed after each piece of evidence")
@options.as_json
def causes_command(
    case: str, everything: bool, figure: str | None, force: bool, as_json: bool
) -> None:
    """Ranked causes, each with the evidence for and against it."""
    known, pack = load_case(Path(case)), base_pack()
    picture = wanted_figure(figure, force, case, known.state.disk or case)
    result = causes_of(known.state, pack)
    if picture is not None:
        draw_beliefs(picture, result, turns(known, pack))
    emit(result, as_json, lambda causes: show_causes(causes, everything))


# `mending plan CASE`


@click.command("plan")
@options.case_argument
@click.option(
    "--care",
    type=click.Choice(CARES),
    help="What to spare most: files, unless the settings say otherwise. Personal files are copied"
    " before anything risks them, always.",
)
@click.option(
    "--why",
    metavar="STEP",
    shell_complete=options.complete_steps,
    help="Why a step stands where it does: the plan with it first, last, and not at all.",
)
@click.option(
    "--proof", is_flag=True, help="Also work out how far from the best order it is at most."
)
@click.option("--all", "everything", is_flag=True, help="Every visit in full.")
@click.option(
    "--how",
    is_flag=True,
    help="How each step of the next visit is done; with --all every step.",
)
@options.figure("Draw the chance that the PC works against minutes")
@options.as_json
def plan_command(
    case: str,
    care: str | None,
    why: str | None,
    proof: bool,
    everything: bool,
    how: bool,
    figure: str | None,
    force: bool,
    as_json: bool,
) -> None:
    """The order of steps: visits, minutes, needs, what is at stake, and why each step stands where
    it does.
    """
    known, care = load_case(Path(case)), care or load_config().care
    picture = wanted_figure(figure, force, case, known.state.disk or case)
    if why is not None:
        emit(why_of(known.state, base_pack(), why, care), as_json, show_why)
        return
    result = plan_of(known.state, base_pack(), care, prove=proof)
    draw_minutes(picture, result)
    if how:
        asked = result.visits if everything else result.visits[:1]
        cards = cards_of(known.state, base_pack(), asked)
        result = msgspec.structs.replace(result, cards=cards)
    emit(result, as_json, lambda plan: show_plan(plan, case, everything))
