"""`boot-files` for a BIOS PC of the nt family: the manager that boot code loads, from the system's
own folder.
"""

from mending.boot.nt import NtStart
from mending.knowledge.families import nt_names
from mending.model import FindingId, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import nt_homes, put_files, read_all

REPAIR = RepairId.BOOT_FILES
KINDS = (
    FindingId.FIRST_FILE_MISSING,
    FindingId.FIRST_FILE_EMPTY,
    FindingId.FIRST_FILE_COMPRESSED,
)


def propose(request: Request) -> Proposal:
    """Changes that put the manager on the active volume.

    Raises:
        RefusedError: no system keeps a copy of it, or a guard says no.
    """
    asking = [each for each in request.calling_for(REPAIR) if each.id in KINDS]
    path = next((each.where.path for each in asking if each.where.path), None)
    active = [each for each in request.disk.volumes if each.active and not each.extended]
    if path is None or len(active) != 1:
        raise RefusedError("Which file boot code looks for, and where, cannot be told.")
    for start in nt_homes(request):
        data = _kept(request, start, path.rpartition("/")[2])
        if data:
            home = active[0]
            changes = put_files(request, home, {path: data}, f"the boot manager {path}")
            says = f"Copies the boot manager of {start.root} to {path} on volume {home.number}."
            return Proposal(repair=REPAIR, says=says, changes=tuple(changes), answers=tuple(asking))
    raise RefusedError(
        "No system here keeps a copy of its boot manager.", "Copy it off a rescue stick."
    )


def _kept(request: Request, start: NtStart, name: str) -> bytes:
    place = start.path(f"{nt_names().manager.bios_folder}/{name}")
    found = request.environment.find(start.volume, place)
    return read_all(request, start.volume, found.path) if found is not None else b""
