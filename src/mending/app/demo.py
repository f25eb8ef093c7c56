"""The sample PCs of the workshop, each taken through the whole job."""

from collections.abc import Iterator
from pathlib import Path

import msgspec

from mending.app.evidence import attach, holds_records, read_case, read_crashes, start_case
from mending.app.host import Host
from mending.app.mending import carry_out_repair, plan_repair
from mending.app.targets import NamedTarget
from mending.boot.chain import Trace
from mending.case import Case, causes_of, crash_files, load_case, plan_of, saw, started, tried
from mending.crash.results import CrashesResult
from mending.knowledge import Pack, base_pack
from mending.model import InputError, RefusedError, RepairId, UsageError
from mending.plan import PlanResult
from mending.reason import CausesResult, ReportKind
from mending.repair.boot import own_code
from mending.repair.run import MendResult, wanted
from mending.source import make_folder, read_folder
from mending.workshop import Sample, leave_records, make_sample, samples

_CHOSEN = {"fog-station": RepairId.DRIVER_START}
"""By sample PC the repair that a technician decides on: its disk is as it should be, and what was
changed stands nowhere on it.
"""


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


class Played(msgspec.Struct, frozen=True, kw_only=True):
    """One sample PC on its way through the job, for whoever shows it.

    Attributes:
        folder: its case.
        by_hand: the step of the plan that a technician did; empty where Mending repaired the disk.
    """

    row: DemoRow
    says: str
    folder: str
    trace: Trace | None
    crashes: CrashesResult | None
    causes: CausesResult
    plan: PlanResult
    mended: tuple[MendResult, ...]
    by_hand: str


def play_demo(folder: str, host: Host) -> Iterator[Played]:
    """Make the sample PCs in a new folder and do the whole job on each.

    Raises:
        InputError: the folder is not empty, or cannot be made.
    """
    top = Path(folder)
    if read_folder(top):
        raise InputError(f"{folder} is not empty.", "Name a new folder: mending demo NEW-FOLDER")
    make_folder(top / "images")
    pack = base_pack()
    for sample in samples(own_code()):
        yield _play(sample, top, pack, host)


def _play(sample: Sample, top: Path, pack: Pack, host: Host) -> Played:
    image = make_sample(sample, top / "images")
    folder = str(top / sample.name)
    case = start_case(
        folder, [str(image)] if image else [], pack, sample.facts, {"screen": sample.says}, host
    )
    case = saw(case, pack, host.hand, sample.seen)
    for record in leave_records(sample, top / "records"):
        case = attach(case, str(record), host)
        if holds_records(case):
            case = read_case(case, host)
    crashes = read_crashes(folder, crash_files(case, host.key)) if case.state.clues else None
    causes, plan, before = causes_of(case.state, pack), plan_of(case.state, pack), case.state
    mended: list[MendResult] = []
    by_hand = ""
    if image is not None:
        done, mended = _mend(folder, host, _CHOSEN.get(sample.name))
    else:
        by_hand = _by_hand(case, pack, plan, host)
        done = f"{by_hand}, by hand" if by_hand else ""
    row = DemoRow(
        name=sample.name,
        before=_stand(case),
        done=done or "nothing yet",
        after=_stand(load_case(Path(folder))),
    )
    return Played(
        row=row,
        says=sample.says,
        folder=folder,
        trace=before.trace,
        crashes=crashes,
        causes=causes,
        plan=plan,
        mended=tuple(mended),
        by_hand=by_hand,
    )


def _mend(folder: str, host: Host, chosen: RepairId | None = None) -> tuple[str, list[MendResult]]:
    """Every repair that the findings call for, as long as some do; where an extra is missing, the
    rest works without it.

    Args:
        chosen: the repair that a technician decides on, for no finding calls for it.
    """
    target = NamedTarget(folder, host)
    done, results, seen = list[str](), list[MendResult](), set[RepairId]()
    while True:
        trace = target.case.state.trace if target.case else None
        called_for = [*(wanted(trace) if trace else ()), *([chosen] if chosen else ())]
        left = [repair for repair in called_for if repair not in seen]
        if not left:
            return ", ".join(done), results
        repair = left[0]
        seen.add(repair)
        try:
            planned = plan_repair(target, host, repair, target.settings())
            results.append(carry_out_repair(target, host, planned))
        except UsageError as error:
            done.append(f"{repair} not done: {error.hint}")
            continue
        except RefusedError:
            continue  # another repair may answer the same finding, or a person has to choose
        done.append(str(repair))


def _by_hand(case: Case, pack: Pack, plan: PlanResult, host: Host) -> str:
    """The first visit of the plan, done by the technician up to the step that helps, and the test
    start after it; the name of that step.
    """
    steps = plan.visits[0].steps if plan.visits else ()
    helps = max(steps, key=lambda step: step.chance, default=None)
    if helps is None:
        return ""
    for step in steps[: steps.index(helps) + 1]:
        case = tried(case, pack, host.hand, step.id, ReportKind.MENDED)
    started(case, host.hand, works=True)
    return helps.id


def _stand(case: Case) -> str:
    if case.state.works:
        return "starts"
    trace = case.state.trace
    if trace is None:
        return "no disk to look at"
    if trace.failing_phase:
        return f"stops at {trace.failing_phase.replace('-', ' ')}"
    if trace.unread is not None:
        return f"sound up to {trace.unread.phase.replace('-', ' ')}"
    return trace.verdict.replace("-", " ")
