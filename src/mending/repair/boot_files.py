"""The repair `boot-files`: the fallback loader that firmware finds without a boot entry, copied afresh.

It is copied from where a sound one is: another loader of the same boot manager on the volume, or the files that the
installed system keeps of it. Nothing else on the volume is changed, and nothing is deleted.
"""

from mending.boot import fallback_name, spare_loader
from mending.disk import FatWriter, Volume, contents_of
from mending.model import InputError, Patch, RefusedError
from mending.repair.guards import check_awake
from mending.repair.proposal import Proposal, Request

REPAIR = "boot-files"
_ANSWERS = ("efi-loader-damaged", "efi-entry-needed", "efi-loader-missing")


def propose(request: Request) -> Proposal:
    """Patches that put one file on the EFI system partition.

    Raises:
        RefusedError: no such finding, no sound loader to copy, or no room for it.
    """
    disk, present = request.disk, [one for one in request.trace.findings if one.id in _ANSWERS]
    if not any(REPAIR in one.repairs for one in present):
        raise RefusedError("The fallback loader is there, or there is none to copy.", "Nothing is written.")
    spare = spare_loader(disk)
    if spare is None:
        raise RefusedError("No sound loader was found that could be copied.", "Copy the files off a rescue stick.")
    check_awake(contents_of(disk.source, spare.home))
    path = fallback_name(spare.machine)
    patches = _patches(request, spare.home, path, spare.data)
    says = f"Copies {spare.path} of volume {spare.volume.number} to {path} on volume {spare.home.number}."
    answers = {one.id for one in present if one.id != "efi-loader-damaged" or (one.where.path or "").upper() == path}
    return Proposal(REPAIR, says, patches, tuple(sorted(answers)))


def _patches(request: Request, home: Volume, path: str, data: bytes) -> tuple[Patch, ...]:
    try:
        writer = FatWriter(request.disk.source, home.offset)
        writer.put(path, data)
        ranges = writer.ranges()
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if not ranges:
        raise RefusedError(f"{path} is already what would be written.")
    return tuple(Patch(offset, before, after, f"{path} and the tables it needs") for offset, before, after in ranges)
