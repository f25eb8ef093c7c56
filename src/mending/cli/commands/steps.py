"""What was done: `tried`, `started`, `close`."""

from collections.abc import Mapping, Sequence
from pathlib import Path

import click
import msgspec
from click.shell_completion import CompletionItem

from mending.app.conversation import Guide
from mending.case import (
    case_result,
    doubts_of,
    learn,
    load_case,
    plan_of,
    started,
    taken_back,
    tried,
    work,
)
from mending.cli import options
from mending.cli.asking import answers_from, clock, follow
from mending.cli.config import base_codes, base_pack, interactive, load_config, this_host
from mending.cli.output import confirmed
from mending.cli.output import note as tell
from mending.cli.show.cases import show_case, show_recorded
from mending.cli.show.reasoning import show_plan
from mending.cli.show.tables import emit, say, text
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
def tried_command(
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


# `mending started CASE yes|no|watch`


@click.command("started")
@options.case_argument
@click.argument("outcome", type=click.Choice(["yes", "no", "watch"]), required=False)
@click.option("--note", default="", help="What was seen.")
@click.option(
    "--hours",
    type=float,
    help="With no: it ran so long before it failed. With watch: so long it has run by now.",
)
@click.option("--take-back", is_flag=True, help="The newest one was entered wrongly.")
@options.as_json
def started_command(
    case: str, outcome: str | None, note: str, hours: float | None, take_back: bool, as_json: bool
) -> None:
    """Record a test start: did the PC start? Then the plan is made anew. With trouble that comes
    and goes say watch: it starts, and time will tell; say it again with the hours it has run.
    """
    if (outcome is None) is not take_back:
        raise UsageError("Say yes, no or watch, or --take-back.", "See: mending started --help")
    known, hand, pack = load_case(Path(case)), this_host().hand, base_pack()
    if outcome is None:
        known = taken_back(known, hand)
    else:
        known = started(known, hand, outcome == "yes", note, outcome == "watch", hours)
    goes_on = not known.state.works and not as_json
    result = case_result(known, pack)
    result = msgspec.structs.replace(result, next="") if goes_on else result
    says = result.starts[-1].says if outcome is not None else "taken back"
    emit(result, as_json, lambda case: show_recorded(case, [("test start", says)]))
    if goes_on:
        if known.state.under_watch:
            say(text("What to do should it fail again:"))
        say(show_plan(plan_of(known.state, pack), case))


# `mending close CASE`


@click.command("close")
@options.case_argument
@click.option(
    "--cause",
    metavar="CAUSE",
    shell_complete=options.complete_causes,
    help="What was wrong: an id from `causes`, or words.",
)
@click.option(
    "--fix",
    metavar="STEP",
    shell_complete=options.complete_steps,
    help="What mended it: a step that was done, or words.",
)
@click.option(
    "--put-back",
    "put_back",
    multiple=True,
    metavar="STEP=DONE|WHY",
    help="That a temporary setting is put back, or why it stays; repeatable.",
)
@click.option(
    "--elsewhere", is_flag=True, help="The fix was done by somebody else, or is not in the record."
)
@click.option("--minutes", type=click.FloatRange(0, 1e5), help="Minutes of work, all in all.")
@click.option(
    "--handed-over",
    "to",
    metavar="TO",
    help="It does not work yet, and somebody else goes on: who.",
)
@click.option("--reopen", is_flag=True, help="Go on with a case that was closed or handed over.")
@options.shop_fields
@options.as_json
def close_command(
    case: str,
    cause: str | None,
    fix: str | None,
    put_back: tuple[str, ...],
    minutes: float | None,
    elsewhere: bool,
    to: str | None,
    reopen: bool,
    shop: Mapping[str, str],
    as_json: bool,
) -> None:
    """Close a case: it works from cold, cause and fix are named, nothing temporary is left. What is
    not named is asked for on a terminal.
    """
    known, hand, pack = load_case(Path(case)), this_host().hand, base_pack()
    if reopen:
        emit(case_result(work.reopened(known, hand), pack), as_json, show_case)
        return
    known = learn(known, pack, hand, {}, {}, shop) if shop else known
    if to is not None:
        handed = work.handed_over(known, pack, hand, to, cause)
        emit(case_result(handed, pack), as_json, show_case)
        return
    said = options.pairs(put_back)
    if (cause is None or fix is None) and interactive() and not as_json and known.state.works:
        known = work.checked(known, hand, _said(cause, fix, said, minutes))
        guide = Guide(known, pack, base_codes(), this_host())
        follow(guide, answers_from(None, clock, one_key=load_config().one_key))
        say(text(""), show_case(case_result(guide.case, pack)))
        return
    if cause is None or fix is None:
        missing = "--cause" if cause is None else "--fix"
        raise UsageError(f"{missing} is missing: what was wrong, and what mended it?")
    ended = work.closed(known, pack, hand, cause, fix, said, minutes, elsewhere)
    emit(case_result(ended, pack), as_json, show_case)


def _said(
    cause: str | None, fix: str | None, put_back: Mapping[str, str], minutes: float | None
) -> dict[str, str]:
    """What the options answer already, so that it is not asked."""
    told = {work.CAUSE: cause, work.FIX: fix}
    told |= {work.put_back_key(step): says for step, says in put_back.items()}
    told |= {work.MINUTES: f"{minutes:g}"} if minutes is not None else {}
    return {name: says for name, says in told.items() if says}
