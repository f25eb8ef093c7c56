"""The repair `boot-files`: the fallback loader that firmware finds without a boot entry, copied
afresh.

It is copied from where a sound one is: another loader of the same boot manager on the volume, or
the files that the installed system keeps of it. Nothing else on the volume is changed, and nothing
is deleted.
"""

from mending.boot.uefi import efi_volumes, fallback_name, spare_loader, spare_second_loader
from mending.disk.fat import FatWriter
from mending.disk.system import read_contents
from mending.disk.volume import Volume
from mending.model import Finding, FindingId, InputError, Patch, RefusedError, RepairId
from mending.repair.base import Proposal, Request, check_awake
from mending.repair.boot.nt_manager import files_beside

REPAIR = RepairId.BOOT_FILES
_ANSWERS = (
    FindingId.EFI_LOADER_DAMAGED,
    FindingId.EFI_ENTRY_NEEDED,
    FindingId.EFI_LOADER_MISSING,
    FindingId.FIRMWARE_FINDS_NOTHING,
)


def propose(request: Request) -> Proposal:
    """Patches that put one file on the EFI system partition.

    Raises:
        RefusedError: no such finding, no sound loader to copy, or no room for it.
    """
    disk, present = request.disk, request.found(*_ANSWERS)
    asked_for = request.calling_for(REPAIR) or request.found(FindingId.EFI_ENTRY_NEEDED)
    if not asked_for:
        raise RefusedError(
            "The fallback loader is there, or there is none to copy.", "Nothing is written."
        )
    second = request.found(FindingId.SECOND_LOADER_MISSING, FindingId.SECOND_LOADER_DAMAGED)
    if second:
        return _second_loader(request, second[0])
    spare = spare_loader(request.environment)
    if spare is None:
        raise RefusedError(
            "No sound loader was found that could be copied.", "Copy the files off a rescue stick."
        )
    check_awake(read_contents(disk.source, spare.home))
    path = fallback_name(spare.machine)
    places = [path, *([spare.own_path] if spare.own_path else [])]
    files = dict.fromkeys(places, spare.data)
    if spare.own_path:
        folder = spare.own_path.rpartition("/")[0]
        files |= files_beside(request, spare.volume, spare.path, spare.home, folder)
    patches = _patches(request, spare.home, files)
    beside = len(files) - len(places)
    says = (
        f"Copies {spare.path} of volume {spare.volume.number} to {' and '.join(places)} on volume"
        f" {spare.home.number}{f', and {beside} files beside it' if beside else ''}."
    )
    answers = tuple(
        finding
        for finding in present
        if finding.id != FindingId.EFI_LOADER_DAMAGED
        or (finding.where.path or "").upper() in map(str.upper, places)
    )
    return Proposal(repair=REPAIR, says=says, changes=patches, answers=answers)


def _second_loader(request: Request, finding: Finding) -> Proposal:
    """The file that another loader hands over to, from where a system keeps it."""
    path = finding.where.path or ""
    spare = spare_second_loader(request.environment, path)
    homes = [esp.volume for esp in efi_volumes(request.environment) if not esp.unreadable]
    if spare is None or not homes:
        raise RefusedError(
            f"No sound file was found that could stand at {path}.",
            "Copy the files off a rescue stick.",
        )
    volume, kept, data = spare
    home = homes[0]
    check_awake(read_contents(request.disk.source, home))
    says = f"Copies /{kept} of volume {volume.number} to {path} on volume {home.number}."
    patches = _patches(request, home, {path: data})
    return Proposal(repair=REPAIR, says=says, changes=patches, answers=(finding,))


def _patches(request: Request, home: Volume, files: dict[str, bytes]) -> tuple[Patch, ...]:
    path = next(iter(files))
    try:
        writer = FatWriter(request.disk.source, home.offset)
        for place, data in files.items():
            writer.put(place, data)
        ranges = writer.ranges()
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if not ranges:
        raise RefusedError(f"{path} is already what would be written.")
    return tuple(
        Patch(offset, before, after, f"{path} and the tables it needs")
        for offset, before, after in ranges
    )
