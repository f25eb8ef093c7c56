"""`mending started CASE yes|no|watch`"""

from pathlib import Path

import click
import msgspec

from mending.case import case_result, load_case, plan_of, started, taken_back
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.show.case.cases import show_recorded
from mending.cli.show.console import emit, say, text
from mending.cli.show.reasoning import show_plan
from mending.model import UsageError


@click.command("started")
@options.case_argument
@click.argument("outcome", type=click.Choice(["yes", "no", "watch"]), required=False)
@click.option("--note", default="", help="What was seen.")
@click.option(
    "--hours",
    type=float,
    help="With no: it ran so long before it failed. With watch: so long it has run by now.",
)
@click.option("--take-back", is_flag=True, help="The newest one was entered wrongly.")
@options.as_json
def command(
    case: str, outcome: str | None, note: str, hours: float | None, take_back: bool, as_json: bool
) -> None:
    """Record a test start: did the PC start? Then the plan is made anew. With trouble that comes
    and goes say watch: it starts, and time will tell; say it again with the hours it has run.
    """
    if (outcome is None) is not take_back:
        raise UsageError("Say yes, no or watch, or --take-back.", "See: mending started --help")
    known, hand, pack = load_case(Path(case)), this_host().hand, base_pack()
    if outcome is None:
        known = taken_back(known, hand)
    else:
        known = started(known, hand, outcome == "yes", note, outcome == "watch", hours)
    goes_on = not known.state.works and not as_json
    result = case_result(known, pack)
    result = msgspec.structs.replace(result, next="") if goes_on else result
    says = result.starts[-1].says if outcome is not None else "taken back"
    emit(result, as_json, lambda case: show_recorded(case, [("test start", says)]))
    if goes_on:
        if known.state.under_watch:
            say(text("What to do should it fail again:"))
        say(show_plan(plan_of(known.state, pack), case))
