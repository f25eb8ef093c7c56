"""Mending a target: plan, then carry out just what was planned, each step told to its case."""

from functools import partial
from pathlib import Path

import msgspec

from mending.app.case_disk import identity_now
from mending.app.host import Host
from mending.app.opening import opened_target
from mending.app.targets import NamedTarget
from mending.app.tracing import keep_no_memory, offers_in
from mending.boot.trace import open_environment
from mending.case import crash_files, mended
from mending.disk.locked import GivenKey, KeyRing
from mending.knowledge import base_pack
from mending.model import InputError, Progress, UsageError, silent
from mending.repair.base import MendSettings
from mending.repair.run import (
    MendAllResult,
    MendResult,
    PlannedSequence,
    Preview,
    carry_out,
    examine,
    preview,
    preview_all,
    repair_of,
)
from mending.source import Identity


def opened_keys(secret: GivenKey | None) -> KeyRing | None:
    """What a key opens, for the settings of repairs; None without one. The program keeps no memory
    of it behind its end.
    """
    if secret is None:
        return None
    keep_no_memory()
    return KeyRing(secret)


def failing_since(target: NamedTarget, host: Host, settings: MendSettings) -> str:
    """When failing began by the crash records of a case and those on the disk; empty where none
    tells.
    """
    # lazy: only the choice of a moment needs what reads records
    from mending.app.evidence import read_crashes  # noqa: PLC0415
    from mending.crash.read import log_files  # noqa: PLC0415

    path, keys = target.path, settings.keys or KeyRing(None)
    files = [*(crash_files(target.case, host.key) if target.case is not None else ())]
    try:
        result = read_crashes(path, [*files, *log_files(Path(path), keys)], path, keys)
    except (InputError, UsageError):  # the question stands without it, too
        return ""
    return result.onset.from_ if result.onset is not None else ""


def plan_repair(
    target: NamedTarget,
    host: Host,
    repair: str,
    settings: MendSettings,
    sector: int | None = None,
    progress: Progress = silent,
) -> Preview:
    """What one repair would do. Reads only.

    Raises:
        UsageError: no such repair.
        RefusedError: a guard says no, or the target would not be better for it.
    """
    kind = repair_of(repair)
    settings = _with_onset(target, host, settings)
    with opened_target(target.path, sector) as source:
        return preview(kind, examine(source, settings), settings, progress)


def plan_repairs(
    target: NamedTarget,
    host: Host,
    settings: MendSettings,
    sector: int | None = None,
    progress: Progress = silent,
) -> PlannedSequence:
    """What every repair that is called for would do, one on top of the other. Reads only."""
    settings = _with_onset(target, host, settings)
    with opened_target(target.path, sector) as source:
        return preview_all(examine(source, settings), settings, progress)


def _with_onset(target: NamedTarget, host: Host, settings: MendSettings) -> MendSettings:
    ask = partial(failing_since, target, host, settings)
    return msgspec.structs.replace(settings, failing_since=ask)


def carry_out_repair(
    target: NamedTarget, host: Host, planned: Preview, sector: int | None = None
) -> MendResult:
    """Write what was planned, prove it, and let the target's case remember it.

    Raises:
        RefusedError: the target changed since, cannot be written now, or its case is closed.
        RepairFailedError: it failed; everything was put back.
    """
    target.refuse_closed()
    identity: Identity | None = None
    with opened_target(target.path, sector, for_writing=True) as source:
        result, after = carry_out(planned, source, target.journal(host), host.clock())
        if target.case is not None:
            identity = identity_now(source)
            environment = open_environment(source, planned.settings.keys)
            after = offers_in(source, environment, after, lambda: planned.settings)
    if target.case is not None and result.undo_point is not None:
        repair, point = planned.proposal.repair, result.undo_point
        target.case = mended(target.case, base_pack(), host.hand, repair, point, after, identity)
    return result


def carry_out_repairs(
    target: NamedTarget, host: Host, planned: PlannedSequence, sector: int | None = None
) -> MendAllResult:
    """Write everything that was planned, in turn. Raises as `carry_out_repair`; what was done
    before that stays done, each with its undo point.
    """
    steps = [carry_out_repair(target, host, each, sector) for each in planned.previews]
    return planned.result(steps)
