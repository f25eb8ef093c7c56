"""The repair `hive-log`: the writes that the logs of a hive hold, laid into it as its kernel would
at the next start. Logs of another hive, or older ones, are never used; `disk.hives.replayed`
tells.
"""

import contextlib

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, SET, NtStart
from mending.disk.hives import Hive
from mending.formats.nt.hive_base import BASE_BYTES, HEAD_BYTES, MAGIC, read
from mending.model import Change, InputError, RefusedError, RepairId, Window
from mending.repair.base import Proposal, Request
from mending.repair.files import (
    HiveFile,
    nt_home,
    open_hive,
    open_system_hive,
    put_hive,
    store_volumes,
)

REPAIR = RepairId.HIVE_LOG
_FOLDER = "system32/config"


def propose(request: Request) -> Proposal:
    """Changes that lay the logs of every hive in that has some waiting.

    Raises:
        RefusedError: no log holds anything that its hive lacks, or a guard says no.
    """
    changes, told = list[Change](), list[str]()
    for file in (*_of_system(request), *_stores(request)):
        if not file.after.applied:
            continue
        _refuse_other(request, file)
        data = file.after.data.ljust(len(file.data), b"\0")
        says = f"{file.path} with {file.after.applied} writes of its logs"
        changes += put_hive(request, file.volume, file.path, file.data, data, says)
        told.append(f"{file.path} ({file.after.applied} writes)")
    if not changes:
        raise RefusedError("No log holds a write that its hive lacks.", "Nothing is written.")
    return Proposal(
        repair=REPAIR,
        says=f"Lays the logs in: {', '.join(told)}.",
        changes=tuple(changes),
        answers=(),
        fault_after=lambda _trace: "",  # read back as it was worked out: the journal sees to that
    )


def _refuse_other(request: Request, file: HiveFile) -> None:
    """Raise RefusedError where a log beside a hive is not its own: it carries another root, or the
    name of another file.
    """
    ours = read(Window(file.data[:BASE_BYTES])).record
    for ending in LOGS:
        log = request.environment.read_head(file.volume, f"{file.path}{ending}", HEAD_BYTES)
        if len(log) < HEAD_BYTES:
            continue
        head = read(Window(log)).record
        if head.magic == MAGIC and (head.root, head.name) != (ours.root, ours.name):
            raise RefusedError(
                f"The log {file.path}{ending} belongs to another hive.", "Set it aside first."
            )


def _of_system(request: Request) -> list[HiveFile]:
    try:
        start: NtStart = nt_home(request)
    except RefusedError:
        return []
    found = []
    for name in SET:
        try:
            file = open_system_hive(request, start, f"{_FOLDER}/{name}")
            list(Hive(file.after.data).root.children())
        except (RefusedError, InputError, OutOfReachError):
            continue  # a hive that cannot be used is no case for its logs
        found.append(file)
    return found


def _stores(request: Request) -> list[HiveFile]:
    found = []
    for volume, path in store_volumes(request):
        with contextlib.suppress(RefusedError):  # one that cannot be used is no case for its logs
            found.append(open_hive(request, volume, path))
    return found
