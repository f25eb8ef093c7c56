"""`mending tried CASE STEP REPORT`"""

from pathlib import Path

import click

from mending.case import case_result, load_case, tried
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.show.cases import show_case
from mending.cli.show.console import emit
from mending.reason import ReportKind


@click.command("tried")
@options.case_argument
@click.argument("step")
@click.argument("report", type=click.Choice([kind.value for kind in ReportKind]))
@click.option("--code", "codes", multiple=True, help="A code that it printed; repeatable.")
@click.option("--note", default="", help="Anything else, or why it could not be run.")
@options.as_json
def command(
    case: str, step: str, report: str, codes: tuple[str, ...], note: str, as_json: bool
) -> None:
    """Record what a step reported. Whether the PC starts is another matter: see `started`."""
    known = tried(
        load_case(Path(case)), base_pack(), this_host().hand, step, ReportKind(report), codes, note
    )
    emit(case_result(known), as_json, show_case)
