"""`mending work CASE`"""

from pathlib import Path

import click

from mending.app.mending import carry_out_repair, plan_repair
from mending.app.targets import NamedTarget
from mending.case import Case, case_result, load_case, plan_of, started, tried
from mending.cli import options, prompts
from mending.cli.host import interactive, this_host
from mending.cli.packs import base_pack
from mending.cli.show.cases import show_case
from mending.cli.show.console import emit, indented, plain_id, rows, say, text, title
from mending.cli.show.reasoning import show_plan
from mending.cli.show.repairs import show_mend
from mending.knowledge import Pack, Step
from mending.model import MendingError, RepairFailedError
from mending.plan import StepResult, VisitResult
from mending.reason import ReportKind

_REPORTS = {
    "done": "it is done",
    "found": "it found something",
    "nothing-wrong": "it found nothing wrong",
    "mended": "it put something right",
    "not-mended": "it found something and could not put it right",
    "not-run": "it could not be run",
    "stop": "stop here; everything so far is recorded",
}
_STARTS = {
    "yes": "it starts and stays up",
    "no": "it does not",
    "watch": "it starts, but the trouble comes and goes: only time will tell",
    "stop": "stop here; everything so far is recorded",
}


@click.command("work")
@options.case_argument
@options.as_json
def command(case: str, as_json: bool) -> None:
    """Go through the plan one step at a time: what to do, why, how to tell. Records, replans, stops
    when it works.
    """
    pack, known = base_pack(), load_case(Path(case))
    if as_json or not interactive():
        plan = plan_of(known.state, pack)
        emit(plan, as_json, lambda plan: show_plan(plan, case))
        return
    while not known.state.works:
        plan = plan_of(known.state, pack)
        if not plan.visits:
            say(title("Nothing more to try: hand over."), show_case(case_result(known)))
            return
        after = _visit(known, pack, plan.visits[0])
        if after is None:
            return
        known = after
        if known.state.under_watch:
            say(show_case(case_result(known, pack)))
            return
    say(
        title(
            "It works. Start it once more from cold, take the stick out, put temporary settings"
            " back."
        )
    )
    done = [pack.steps[attempt.step] for attempt in known.state.tried if attempt.step in pack.steps]
    put_back = {step.id: step.put_back for step in done if step.put_back}
    if put_back:
        say(
            text("To be put back:"),
            indented(rows([(text(name, "bold"), words) for name, words in put_back.items()])),
        )


def _visit(known: Case, pack: Pack, visit: VisitResult) -> Case | None:
    """The steps of one visit and its test start; None when the person stops."""
    say(text(""), title(f"Visit: {plain_id(visit.place)}"), indented(text(visit.how)))
    for step in visit.steps:
        known, report = _step(known, pack, step)
        if report == "stop":
            return None
        if report in {"mended", "done"} and pack.steps[step.id].fixes:
            break
        if (
            report == "not-run"
        ):  # what comes after it may need it: plan again, behind a test start if anything was done
            if not any(report.kind is not ReportKind.NOT_RUN for report in known.state.since_start):
                return known
            break
    answer = prompts.choose("Test start: does it start now?", _STARTS, unknown=False)
    if answer == "stop":
        return None
    return started(known, this_host().hand, answer == "yes", watch=answer == "watch")


def _step(known: Case, pack: Pack, planned: StepResult) -> tuple[Case, str]:
    step = pack.steps[planned.id]
    say(text(""), title(f"{step.id}  ({step.minutes:g} min, {planned.chance:.0%})"))
    lines = [step.does, f"why: it {planned.why}", f"how: {step.how}", f"how to tell: {step.tells}"]
    lines += [f"normal while it runs: {step.normal}"] if step.normal else []
    lines += [f"to undo it: {step.undone}"] if step.undone else []
    say(indented(*map(text, lines)))
    done = _offer(known, step) if step.repair is not None else None
    if done is not None:
        return done
    reports = {
        kind: ": ".join(filter(None, (words, _told(step, kind))))
        for kind, words in _REPORTS.items()
        if kind in {*step.fitting, "stop"}
    }
    report = prompts.choose("What did it report?", reports, unknown=False)
    if report == "stop":
        return known, report
    note = click.prompt("  codes or a note", default="", show_default=False)
    return tried(known, pack, this_host().hand, step.id, ReportKind(report), (), note), report


def _told(step: Step, kind: str) -> str:
    """What that report of the step says."""
    return next((words for report, words in step.reports.items() if report == kind), "")


def _offer(known: Case, step: Step) -> tuple[Case, str] | None:
    """Our own repair: shown, asked, done; None when the person would rather not. What a guard says
    is a report too.
    """
    host = this_host()
    target, repair = NamedTarget(str(known.folder), host), step.repair or ""
    try:
        planned = plan_repair(target, repair, target.settings())
        say(text(""), show_mend(planned.result()))
        if not click.confirm("  Let Mending do it now?", default=True):
            return None
        say(show_mend(carry_out_repair(target, host, planned)))
    except MendingError as error:
        say(text(f"{error.says} {error.hint}".strip()))
        report = (
            ReportKind.NOT_MENDED if isinstance(error, RepairFailedError) else ReportKind.NOT_RUN
        )
        return tried(known, base_pack(), this_host().hand, step.id, report, (), error.says), report
    return load_case(known.folder), "mended"
