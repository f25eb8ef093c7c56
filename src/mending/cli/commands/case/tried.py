"""`mending tried CASE STEP REPORT`"""

from pathlib import Path

import click

from mending.case import case_result, load_case, taken_back, tried
from mending.cli import options
from mending.cli.host import this_host
from mending.cli.packs import base_pack
from mending.cli.show.case.cases import show_recorded
from mending.cli.show.console import emit
from mending.knowledge import WhyNotRun
from mending.model import UsageError
from mending.reason import ReportKind

_COULD_NOT_RUN = "could-not-run"
_REPORTS = [*(kind.value for kind in ReportKind), _COULD_NOT_RUN]


@click.command("tried")
@options.case_argument
@click.argument("step", shell_complete=options.complete_steps)
@click.argument("report", type=click.Choice(_REPORTS), required=False)
@click.option("--code", "codes", multiple=True, help="A code that it printed; repeatable.")
@click.option("--note", default="", help="Anything else.")
@click.option(
    "--why",
    type=click.Choice([why.value for why in WhyNotRun]),
    help="Why it could not be run: access refused, no recovery key, no such menu, no time.",
)
@click.option("--take-back", is_flag=True, help="Its newest report was entered wrongly.")
@options.as_json
def command(
    case: str,
    step: str,
    report: str | None,
    codes: tuple[str, ...],
    note: str,
    why: str | None,
    take_back: bool,
    as_json: bool,
) -> None:
    """Record what a step reported. Whether the PC starts is another matter: see `started`."""
    if (report is None) is not take_back:
        raise UsageError("Say what it reported, or --take-back.", "See: mending tried --help")
    known, hand = load_case(Path(case)), this_host().hand
    if report is None:
        known = taken_back(known, hand, step)
    else:
        kind = ReportKind.NOT_RUN if report == _COULD_NOT_RUN else ReportKind(report)
        reason = WhyNotRun(why) if why else None
        known = tried(known, base_pack(), hand, step, kind, codes, note, reason)
    says = "taken back" if report is None else report
    result = case_result(known, base_pack())
    emit(result, as_json, lambda case: show_recorded(case, [(f"tried {step}", says)]))
