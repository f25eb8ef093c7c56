"""`mending demo [DIR]`"""

from pathlib import Path

import click
import msgspec
from rich.console import Group, RenderableType

from mending.case import Case, causes_of, crash_files, load_case, plan_of, saw, started, tried
from mending.cli import options, world
from mending.cli.commands.mend import write
from mending.cli.commands.open import attach, start
from mending.cli.records import read_all
from mending.cli.show import emit, say, show_causes, show_crashes, show_mend, show_plan, show_trace
from mending.cli.show.console import plain_id, rows, text, title
from mending.cli.targets import Target
from mending.knowledge import Pack, base_pack
from mending.model import InputError, UsageError
from mending.reason import ReportKind
from mending.repair import Leave, own_code, wanted
from mending.workshop import Sample, leave_records, make_sample, samples


class DemoRow(msgspec.Struct, frozen=True, kw_only=True):
    """One sample PC: what was found, what was done, what is found now."""

    name: str
    before: str
    done: str
    after: str


class DemoResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="demo/1"):
    """The whole demo. `folder` holds the images and the cases, to go on with."""

    folder: str
    rows: tuple[DemoRow, ...]


@click.command("demo")
@click.argument("folder", default="skerrivane-workshop")
@click.option("--brief", is_flag=True, help="Only the table at the end.")
@options.as_json
def command(folder: str, brief: bool, as_json: bool) -> None:
    """Make sample PCs in FOLDER and do the whole job on each: open, trace, rank, plan, mend, trace again."""
    top = Path(folder)
    if top.exists() and any(top.iterdir()):
        raise InputError(f"{folder} is not empty.", "Name a new folder: mending demo NEW-FOLDER")
    (top / "images").mkdir(parents=True, exist_ok=True)
    pack, quiet = base_pack(), brief or as_json
    found = [_play(sample, top, pack, quiet) for sample in samples(own_code())]
    emit(DemoResult(folder=folder, rows=tuple(found)), as_json, _table)


def _play(sample: Sample, top: Path, pack: Pack, quiet: bool) -> DemoRow:
    image = make_sample(sample, top / "images")
    folder = str(top / sample.name)
    case = start(folder, str(image) if image else None, pack, sample.facts, {"screen": sample.says})
    case = saw(case, pack, world.hand(), sample.seen)
    for record in leave_records(sample, top / "records"):
        case = attach(case, str(record))
    before = _stand(case)
    if not quiet:
        _tell(case, pack, sample, folder)
    done = _mend_all(folder, quiet) if image else _by_hand(case, pack, quiet)
    return DemoRow(name=sample.name, before=before, done=done or "nothing yet", after=_stand(load_case(Path(folder))))


def _tell(case: Case, pack: Pack, sample: Sample, folder: str) -> None:
    say(text(""), title(f"=== {sample.name}: {sample.says}"), text(""))
    if case.state.trace is not None:
        say(show_trace(case.state.trace, pack, folder), text(""))
    if case.state.clues:
        say(show_crashes(read_all(folder, crash_files(case))))
    if case.state.trace is None or case.state.trace.fatal:
        say(title("causes"), show_causes(causes_of(case.state, pack)), text(""))
        say(title("plan"), show_plan(plan_of(case.state, pack), folder), text(""))


def _mend_all(folder: str, quiet: bool) -> str:
    """Every repair that the findings call for and that Mending carries out."""
    target, done = Target(folder), []
    trace = target.case.state.trace if target.case else None
    for repair in wanted(trace) if trace else ():
        try:
            result = write(target, repair, Leave(firmware=target.firmware))
        except UsageError as error:  # an extra is missing; the rest of the demo works without it
            done.append(f"{repair} not done: {error.hint}")
            continue
        done.append(repair)
        if not quiet:
            say(show_mend(result), text(""))
    return ", ".join(done)


def _by_hand(case: Case, pack: Pack, quiet: bool) -> str:
    """The first visit of the plan, done by the technician up to the step that helps, and the test start after it."""
    plan = plan_of(case.state, pack)
    steps = plan.visits[0].steps if plan.visits else ()
    helps = max(steps, key=lambda step: step.chance, default=None)
    if helps is None:
        return ""
    for step in steps[: steps.index(helps) + 1]:
        case = tried(case, pack, world.hand(), step.id, ReportKind.MENDED)
    started(case, world.hand(), works=True)
    if not quiet:
        say(text(f"The technician does {helps.id}, and the PC starts."))
    return f"{helps.id}, by hand"


def _stand(case: Case) -> str:
    if case.state.works:
        return "starts"
    trace = case.state.trace
    if trace is None:
        return "no disk to look at"
    return f"stops at {plain_id(trace.failing_phase)}" if trace.failing_phase else plain_id(trace.verdict)


def _table(result: DemoResult) -> RenderableType:
    cells = [(one.name, one.before, one.done, one.after) for one in result.rows]
    hint = f"The cases are in {result.folder}; try: mending trace {result.folder}/{result.rows[1].name}"
    return Group(text(""), rows(cells, ("PC", "before", "done", "after"), wide=2), text(""), text(hint, "dim"))
