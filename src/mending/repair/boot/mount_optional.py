"""The repair `mount-optional`: a volume that fstab asks for and nobody has keeps the start no
longer; the word `nofail` does it (systemd.mount(5), "fstab").

It hides nothing: where the volume comes back it is mounted as before. The word is on the list of
what is put back at the end.
"""

import re

from mending.boot.chain import OutOfReachError, Trace
from mending.boot.new_entry import only_linux_system
from mending.disk.volume import Volume
from mending.model import FindingId, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import put_files, read_whole

REPAIR = RepairId.MOUNT_OPTIONAL
_FIELDS = re.compile(rb"(\s*\S+\s+\S+\s+\S+)(\s+\S+)?(.*)", re.DOTALL)
_WORD = b"nofail"


def propose(request: Request) -> Proposal:
    """Changes of the lines of fstab.

    Raises:
        RefusedError: no such finding.
    """
    findings = [fault for fault in request.calling_for(REPAIR) if fault.where.line is not None]
    if not findings:
        raise RefusedError("Every volume that fstab requires is there.", "Nothing is written.")
    path = findings[0].where.path or ""
    same = [fault for fault in findings if fault.where.path == path]
    home, data = _table(request, path)
    rows = data.split(b"\n")
    for fault in same:
        at = (fault.where.line or 0) - 1
        row, sign, remark = rows[at].partition(b"#") if 0 <= at < len(rows) else (b"", b"", b"")
        match = _FIELDS.fullmatch(row)
        if match is None:
            raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")
        words = match.group(2)
        options = b"\t" + _WORD if words is None else words + b"," + _WORD
        rows[at] = match.group(1) + options + match.group(3) + sign + remark
    changes = put_files(request, home, {path: b"\n".join(rows)}, f"the word nofail in {path}")
    lines = ", ".join(str(fault.where.line) for fault in same)
    says = (
        f"{path} on volume {home.number}, line {lines}: the start no longer waits for it (nofail)."
    )
    return Proposal(
        repair=REPAIR, says=says, changes=tuple(changes), answers=(), fault_after=_still_waits
    )


def _still_waits(after: Trace) -> str:
    """The volume is as gone as before; only the start gets past it."""
    kinds = {FindingId.MOUNT_MISSING, FindingId.MOUNT_REFUSED}
    left = [fault for fault in after.fatal if fault.id in kinds]
    return f"{left[0].says}" if left else ""


def _table(request: Request, path: str) -> tuple[Volume, bytes]:
    """The fstab of the one Linux system; with several it could not be told which of them is meant.

    Raises:
        RefusedError
    """
    home = only_linux_system(request.environment)[0].volume
    try:
        found = request.environment.find(home, path)
        if found is not None:
            return home, read_whole(request.environment, home, found)
    except OutOfReachError as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error
    raise RefusedError(f"{path} was not found again.", "Trace the disk once more.")
