"""`mending report CASE -o FILE`"""

from pathlib import Path

import click

from mending.app.reporting import FORMATS, READERS, write_report
from mending.case import load_case
from mending.cli import options
from mending.cli.config import load_config, zone_of
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.show.console import emit, text


@click.command("report")
@options.case_argument
@click.option(
    "-o",
    "--output",
    required=True,
    metavar="FILE",
    help="The file to write; an older report is replaced.",
)
@click.option(
    "--for",
    "reader",
    type=click.Choice(READERS),
    default=READERS[0],
    show_default=True,
    help="Who reads it: the next technician (everything), the user, or the maker's support.",
)
@click.option(
    "--format",
    "form",
    type=click.Choice(FORMATS),
    help="HTML in one file, Markdown, or JSON; by the file's ending where it is not said.",
)
@click.option(
    "--redact",
    is_flag=True,
    help="Take out names, serial numbers, paths of users, names of machines, and all own words.",
)
@options.as_json
def command(
    case: str, output: str, reader: str, form: str | None, redact: bool, as_json: bool
) -> None:
    """Write a case down, to be handed on: the disk as found and as it is now, evidence, causes,
    what was tried, what comes next.
    """
    ending = Path(output).suffix.lower().removeprefix(".")
    result = write_report(
        load_case(Path(case)),
        base_pack(),
        output,
        this_host(),
        reader=reader,
        form=form or (ending if ending in FORMATS else FORMATS[0]),
        redact=redact,
        zone=zone_of(load_config()),
    )
    told = ", redacted" if result.redacted else ""
    emit(
        result,
        as_json,
        lambda page: text(f"Written for the {page.reader}{told}: {page.file} ({page.bytes} bytes)"),
    )
