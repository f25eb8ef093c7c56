"""`mending add CASE FILE...`"""

from pathlib import Path

import click

from mending.case import case_result, load_case
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.reading import attach_and_read
from mending.cli.show.case.cases import show_case
from mending.cli.show.console import emit


@click.command("add")
@options.case_argument
@click.argument("files", nargs=-1, required=True)
@click.option(
    "--disk", "as_disk", is_flag=True, help="Take it for the PC's disk, whatever it begins with."
)
@click.option("--beside", is_flag=True, help="Take it for a further disk of the PC.")
@options.as_json
def command(case: str, files: tuple[str, ...], as_disk: bool, beside: bool, as_json: bool) -> None:
    """Attach evidence to a case; the kind is told by the content. A disk is traced at once."""
    grown, host = load_case(Path(case)), this_host()
    for file in files:
        grown = attach_and_read(grown, file, host, as_disk, beside)
    emit(case_result(grown, base_pack()), as_json, show_case)
