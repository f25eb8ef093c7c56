"""`mending report CASE -o FILE`"""

from pathlib import Path

import click

from mending.app.reporting import write_report
from mending.case import load_case
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.show.console import emit, text


@click.command("report")
@options.case_argument
@click.option(
    "-o",
    "--output",
    required=True,
    metavar="FILE",
    help="The page to write; an older report is replaced.",
)
@options.as_json
def command(case: str, output: str, as_json: bool) -> None:
    """One self-contained page about a case: phases, findings, causes, plan, what was tried, undo
    points.
    """
    result = write_report(load_case(Path(case)), output, this_host())
    emit(result, as_json, lambda page: text(f"Written: {page.file} ({page.bytes} bytes)"))
