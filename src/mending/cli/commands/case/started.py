"""`mending started CASE yes|no`"""

from pathlib import Path

import click
import msgspec

from mending.case import case_result, load_case, plan_of, started, taken_back
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.show.cases import show_case
from mending.cli.show.console import emit, say
from mending.cli.show.reasoning import show_plan
from mending.model import UsageError


@click.command("started")
@options.case_argument
@click.argument("works", type=click.Choice(["yes", "no"]), required=False)
@click.option("--note", default="", help="What was seen.")
@click.option("--take-back", is_flag=True, help="The newest one was entered wrongly.")
@options.as_json
def command(case: str, works: str | None, note: str, take_back: bool, as_json: bool) -> None:
    """Record a test start: did the PC start? Then the plan is made anew."""
    if (works is None) is not take_back:
        raise UsageError("Say yes or no, or --take-back.", "See: mending started --help")
    known, hand = load_case(Path(case)), this_host().hand
    known = started(known, hand, works == "yes", note) if works else taken_back(known, hand)
    goes_on = not known.state.works and not as_json
    result = case_result(known)
    emit(msgspec.structs.replace(result, next="") if goes_on else result, as_json, show_case)
    if goes_on:
        say(show_plan(plan_of(known.state, base_pack()), case))
