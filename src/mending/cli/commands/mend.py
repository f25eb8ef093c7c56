"""`mending mend TARGET [REPAIR]`"""

import click

from mending.boot import Trace, trace_disk
from mending.case import mended
from mending.cli import options, world
from mending.cli.show import emit, say, show_mend, show_mend_all
from mending.cli.targets import Target, opened
from mending.knowledge import base_pack
from mending.model import RefusedError, UsageError
from mending.repair import Leave, MendAllResult, MendResult, carry_out, preview, wanted
from mending.source import PatchedSource, Source


@click.command("mend")
@options.target_argument
@click.argument("repair", required=False)
@click.option("--all", "everything", is_flag=True, help="Every repair that the findings call for, one by one.")
@click.option("--dry-run", is_flag=True, help="Show what would be written, and write nothing.")
@click.option("--yes", is_flag=True, help="Write without asking.")
@click.option("--anyway", is_flag=True, help="Write although the present state would do.")
@click.option("--key-at-hand", is_flag=True, help="The recovery key of an encrypted volume can be typed in.")
@options.firmware
@options.sector
@options.as_json
def command(
    target: str, repair: str | None, everything: bool, dry_run: bool, yes: bool, anyway: bool, key_at_hand: bool,
    firmware: str | None, sector: int | None, as_json: bool,
) -> None:  # fmt: skip
    """One offline repair: guards, what will be written, undo point, write, proof by a new trace.

    Without REPAIR it shows those that the findings call for, in chain order; with --all it does them one by one.
    """
    if repair is not None and everything:
        raise UsageError("A repair and --all do not go together.")
    found = Target(target)
    leave = Leave(anyway, key_at_hand, firmware or found.firmware)
    looking = dry_run or (repair is None and not everything)
    with opened(found.disk, sector) as source:
        planned = _plan_all(source, leave) if repair is None else preview(repair, source, leave).result()
    if looking or (isinstance(planned, MendAllResult) and not planned.steps):
        _show(planned, as_json)
        return
    if not yes:
        _confirm(planned, as_json)
    _show(write(found, repair, leave, sector) if repair else _write_all(found, leave, sector), as_json)


def write(target: Target, repair: str, leave: Leave, sector: int | None = None) -> MendResult:
    """Carry a repair out and let the target's case remember it."""
    with opened(target.disk, sector, for_writing=True) as source:
        planned = preview(repair, source, leave)
        result, after = carry_out(planned, source, target.undo_folder, world.now())
    if target.case is not None and result.undo_point is not None:
        target.case = mended(target.case, base_pack(), world.hand(), repair, result.undo_point, after)
    return result


def _plan_all(source: Source, leave: Leave) -> MendAllResult:
    """Every repair in turn, on the target's bytes in memory."""
    before = now = trace_disk(source, leave.firmware)
    steps: list[MendResult] = []
    while repair := _next(now, steps):
        try:
            planned = preview(repair, source, leave)
        except RefusedError as error:
            return _all(False, steps, f"{repair}: {error.says} {error.hint}".strip(), before, now)
        steps.append(planned.result())
        source, now = PatchedSource(source, planned.proposal.patches), planned.after
    return _all(False, steps, None, before, now)


def _write_all(target: Target, leave: Leave, sector: int | None) -> MendAllResult:
    """Every repair in turn, for good, traced in between; stops at the first that would not improve anything."""
    with opened(target.disk, sector) as source:
        before = now = trace_disk(source, leave.firmware)
    steps: list[MendResult] = []
    stopped = None
    while stopped is None and (repair := _next(now, steps)):
        try:
            steps.append(write(target, repair, leave, sector))
        except RefusedError as error:
            if not steps:
                raise
            stopped = f"{repair}: {error.says} {error.hint}".strip()
        with opened(target.disk, sector) as source:
            now = trace_disk(source, leave.firmware)
    return _all(bool(steps), steps, stopped, before, now)


def _next(trace: Trace, steps: list[MendResult]) -> str | None:
    done = {one.repair for one in steps}
    return next((repair for repair in wanted(trace) if repair not in done), None)


def _all(done: bool, steps: list[MendResult], stopped: str | None, before: Trace, after: Trace) -> MendAllResult:
    return MendAllResult(
        done=done, steps=tuple(steps), stopped=stopped, before=before.verdict, after=after.verdict,
        failing_before=before.failing_phase, failing_after=after.failing_phase,
    )  # fmt: skip


def _show(result: MendResult | MendAllResult, as_json: bool) -> None:
    if isinstance(result, MendAllResult):
        emit(result, as_json, show_mend_all)
    else:
        emit(result, as_json, show_mend)


def _confirm(planned: MendResult | MendAllResult, as_json: bool) -> None:
    if as_json or not world.interactive():
        raise RefusedError(
            "Nothing was written: nobody can be asked here.", "Add --yes to write, or --dry-run to look."
        )
    say(show_mend_all(planned) if isinstance(planned, MendAllResult) else show_mend(planned))
    click.confirm("Write it now?", abort=True)
