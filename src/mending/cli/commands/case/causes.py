"""`mending causes CASE`"""

from pathlib import Path

import click

from mending.case import causes_of, load_case
from mending.cli import options
from mending.cli.packs import base_pack
from mending.cli.show.console import emit
from mending.cli.show.reasoning import show_causes


@click.command("causes")
@options.case_argument
@click.option(
    "--all", "everything", is_flag=True, help="Every cause of the pack, also the unlikely ones."
)
@options.as_json
def command(case: str, everything: bool, as_json: bool) -> None:
    """Ranked causes, each with the evidence for and against it."""
    result = causes_of(load_case(Path(case)).state, base_pack())
    emit(result, as_json, lambda causes: show_causes(causes, everything))
