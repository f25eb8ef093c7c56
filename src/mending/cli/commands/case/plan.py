"""`mending plan CASE`"""

from pathlib import Path

import click
import msgspec

from mending.case import cards_of, load_case, plan_of, why_of
from mending.cli import options
from mending.cli.config import CARES, load_config
from mending.cli.figures import draw_minutes, wanted_figure
from mending.cli.packs import base_pack
from mending.cli.show.console import emit
from mending.cli.show.reasoning import show_plan, show_why


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
def command(
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
