"""`boot-files` for a BIOS PC of the nt family: the manager that boot code loads, from the system's
own folder.
"""

from mending.boot.nt import beside_manager
from mending.disk.volume import Volume
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
        kept = start.path(f"{nt_names().manager.bios_folder}/{path.rpartition('/')[2]}")
        found = request.environment.find(start.volume, kept)
        if found is not None and found.bytes:
            home, files = active[0], {path: read_all(request, start.volume, found.path)}
            store = nt_names().store.beside_code.rpartition("/")[0]
            files |= files_beside(request, start.volume, found.path, home, f"/{store}")
            changes = put_files(request, home, files, f"the boot manager {path} and its files")
            more = f" and {len(files) - 1} files beside it" if len(files) > 1 else ""
            return Proposal(
                repair=REPAIR,
                says=f"Copies the boot manager of {start.root} to {path} on volume {home.number}"
                f"{more}.",
                changes=tuple(changes),
                answers=tuple(asking),
            )
    raise RefusedError(
        "No system here keeps a copy of its boot manager.", "Copy it off a rescue stick."
    )


def files_beside(
    request: Request, volume: Volume, manager: str, home: Volume, folder: str
) -> dict[str, bytes]:
    """What a system keeps beside its manager and the other volume lacks, by where it goes.

    Args:
        folder: on the other volume.
    """
    found = {}
    for path, name in beside_manager(request.environment, volume, manager):
        place = f"{folder}/{name}"
        if request.environment.find(home, place) is None:
            found[place] = read_all(request, volume, path)
    return found
