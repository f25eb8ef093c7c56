"""`mending report CASE`"""

from pathlib import Path

import click

from mending.app.reporting import (
    FORMATS,
    READERS,
    Wish,
    make_report,
    report_form,
    settle_report,
    write_report,
)
from mending.case import load_case
from mending.cli import options
from mending.cli.config import base_pack, load_config, this_host, zone_of
from mending.cli.output import put
from mending.cli.show.tables import emit, text

_TERMINAL = "-"


@click.command("report")
@options.case_argument
@options.output(
    "The file to write; a report of the same case is replaced. Without it, or -: the terminal.",
    None,
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
@click.option(
    "--steps", is_flag=True, help="Only how the steps of the plan are done: to print or to send."
)
@options.as_json
def report_command(
    case: str,
    output: str | None,
    force: bool,
    reader: str,
    form: str | None,
    redact: bool,
    steps: bool,
    as_json: bool,
) -> None:
    """Write a case down, to be handed on: the disk as found and as it is now, evidence, causes,
    what was tried, what comes next. Without -o it goes to the terminal, as Markdown.
    """
    known, host, pack = load_case(Path(case)), this_host(), base_pack()
    zone = zone_of(load_config())
    if output in {None, _TERMINAL}:
        shown = form or ("json" if as_json else "md")
        wish = Wish(reader=reader, form=shown, redact=redact, steps=steps, zone=zone)
        put(make_report(known, pack, host, wish))
        return
    assert output is not None
    form = report_form(output, form)
    wish = Wish(reader=reader, form=form, redact=redact, steps=steps, zone=zone)
    result = write_report(known, pack, settle_report(known, output, host, force), host, wish)
    told = ", redacted" if result.redacted else ""
    emit(
        result,
        as_json,
        lambda page: text(f"Written for the {page.reader}{told}: {page.file} ({page.bytes} bytes)"),
    )
