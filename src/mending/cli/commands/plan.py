"""`mending plan CASE`"""

from pathlib import Path

import click

from mending.case import load_case, plan_of
from mending.cli import options
from mending.cli.show import emit, show_plan
from mending.knowledge import base_pack


@click.command("plan")
@options.case_argument
@click.option(
    "--care", type=click.Choice(["files", "speed"]), default="files", help="`speed` may risk personal files early."
)
@click.option("--all", "everything", is_flag=True, help="Every visit in full.")
@options.as_json
def command(case: str, care: str, everything: bool, as_json: bool) -> None:
    """The order of steps: visits, minutes, needs, what is at stake, and why each step stands where it does."""
    result = plan_of(load_case(Path(case)).state, base_pack(), care == "speed")
    emit(result, as_json, lambda one: show_plan(one, case, everything))
