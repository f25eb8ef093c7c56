"""`mending causes CASE`"""

from pathlib import Path

import click
import msgspec

from mending.app.reporting import (
    FORMATS,
    READERS,
    Wish,
    make_report,
    report_form,
    settle_report,
    write_report,
)
from mending.case import cards_of, causes_of, load_case, plan_of, why_of
from mending.case.reasoning import turns
from mending.cli import options
from mending.cli.config import CARES, base_pack, load_config, this_host, zone_of
from mending.cli.figures import draw_beliefs, draw_minutes, wanted_figure
from mending.cli.output import put
from mending.cli.show.reasoning import show_causes, show_plan, show_why
from mending.cli.show.tables import emit, text


@click.command("causes")
@options.case_argument
@click.option(
    "--all", "everything", is_flag=True, help="Every cause of the pack, also the unlikely ones."
)
@options.figure("Draw the causes, and what was believed after each piece of evidence")
@options.as_json
def causes_command(
    case: str, everything: bool, figure: str | None, force: bool, as_json: bool
) -> None:
    """Ranked causes, each with the evidence for and against it."""
    known, pack = load_case(Path(case)), base_pack()
    picture = wanted_figure(figure, force, case, known.state.disk or case)
    result = causes_of(known.state, pack)
    if picture is not None:
        draw_beliefs(picture, result, turns(known, pack))
    emit(result, as_json, lambda causes: show_causes(causes, everything))


# `mending plan CASE`


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
def plan_command(
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


# `mending report CASE -o FILE`


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
