"""`mending tried CASE STEP REPORT`"""

from collections.abc import Sequence
from pathlib import Path

import click
from click.shell_completion import CompletionItem

from mending.case import case_result, doubts_of, load_case, taken_back, tried
from mending.cli import options
from mending.cli.echo import confirmed
from mending.cli.echo import note as tell
from mending.cli.host import interactive, this_host
from mending.cli.packs import base_pack
from mending.cli.show.case.cases import show_recorded
from mending.cli.show.console import emit
from mending.knowledge import Pack, WhyNotRun
from mending.model import RefusedError, UsageError
from mending.reason import ReportKind, report_of, tool_report

_COULD_NOT_RUN = "could-not-run"
_REPORTS = [*(kind.value for kind in ReportKind), _COULD_NOT_RUN]


def _complete_reports(
    _ctx: click.Context, _parameter: click.Parameter, begun: str
) -> list[CompletionItem]:
    return [CompletionItem(name) for name in _REPORTS if name.startswith(begun)]


@click.command("tried")
@options.case_argument
@click.argument("step", shell_complete=options.complete_steps)
@click.argument("report", shell_complete=_complete_reports, required=False)
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
    """Record what a step reported: one of done, found, nothing-wrong, mended, not-mended and
    not-run, or what the tool said in quotation marks. Whether the PC starts is another matter: see
    `started`.
    """
    if (report is None) is not take_back:
        raise UsageError("Say what it reported, or --take-back.", "See: mending tried --help")
    known, hand, pack = load_case(Path(case)), this_host().hand, base_pack()
    says = "taken back"
    if report is None:
        known = taken_back(known, hand, step)
    else:
        kind, reason = _told(pack, step, report, WhyNotRun(why) if why else None)
        doubts = doubts_of(known.state, pack, step) if step in pack.steps else ()
        _ask_back(doubts, kind, as_json)
        known = tried(known, pack, hand, step, kind, codes, note, reason)
        says = kind.value
    result = case_result(known, pack)
    emit(result, as_json, lambda case: show_recorded(case, [(f"tried {step}", says)]))


def _told(
    pack: Pack, step: str, report: str, why: WhyNotRun | None
) -> tuple[ReportKind, WhyNotRun | None]:
    """The report that a word or what the tool said stands for.

    Raises:
        UsageError: it is none; says what to do where that is known.
    """
    if report == _COULD_NOT_RUN:
        return ReportKind.NOT_RUN, why
    if report in _REPORTS:
        return ReportKind(report), why
    told = tool_report(pack, report)
    if told is None or step not in pack.steps:
        raise UsageError(
            f"{report!r} is no report that is known.", f"One of: {', '.join(_REPORTS)}."
        )
    kind = report_of(pack.steps[step], told)
    if kind is None:
        raise UsageError(told.says)
    tell(told.says, err=True)
    return kind, why or told.why


def _ask_back(doubts: Sequence[str], kind: ReportKind, as_json: bool) -> None:
    """What speaks against a step is said, and asked about at a terminal.

    Raises:
        RefusedError: it was not meant.
    """
    if kind is ReportKind.NOT_RUN:
        return
    for doubt in doubts:
        tell(doubt, err=True)
    if doubts and interactive() and not as_json and not confirmed("Record it all the same?"):
        raise RefusedError("Nothing was recorded.")
