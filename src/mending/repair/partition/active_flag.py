"""The repair `active-flag`: the flag on the one volume that can be started, and on no other."""

from mending.boot.bios import startable
from mending.disk.layout import Disk, Scheme
from mending.disk.volume import Volume
from mending.formats.partition import mbr
from mending.model import Patch, RefusedError, RepairId
from mending.repair.base import Proposal, Request

REPAIR = RepairId.ACTIVE_FLAG
_PRIMARY = range(1, 5)


def propose(request: Request) -> Proposal:
    """One patch of one byte for every flag that changes.

    Raises:
        RefusedError: no table of this kind, or not exactly one volume that could be started.
    """
    disk = request.disk
    if disk.scheme is not Scheme.MBR:
        raise RefusedError(
            "This disk has no table with active flags.", "A GPT disk is started in another way."
        )
    right = _right_one(disk)
    listed = [volume for volume in disk.volumes if volume.number in _PRIMARY]
    patches = tuple(patch for volume in listed if (patch := _patch(disk, volume, volume is right)))
    if not patches:
        raise RefusedError(
            "The active flag is on the one volume that can be started.",
            "There is nothing to write.",
        )
    says = (
        f"Marks entry {right.number} active, the only volume that boot code could start, and no"
        " other."
    )
    return Proposal(
        repair=REPAIR,
        says=says,
        changes=patches,
        answers=request.calling_for(REPAIR),
    )


def _right_one(disk: Disk) -> Volume:
    found = startable(disk)
    if len(found) == 1:
        return found[0]
    if not found:
        raise RefusedError(
            "No volume holds a boot sector that could be started.", "Mend its boot sector first."
        )
    numbers = " and ".join(str(volume.number) for volume in found)
    raise RefusedError(
        f"Volumes {numbers} could both be started; which one is right cannot be told.",
        "Ask the user.",
    )


def _patch(disk: Disk, volume: Volume, active: bool) -> Patch | None:
    before = disk.source.read(volume.entry_offset, 1).data
    after = bytes([mbr.ACTIVE if active else 0])
    what = f"flag of entry {volume.number}: {'active' if active else 'not active'}"
    return Patch(volume.entry_offset, before, after, what) if before != after else None
