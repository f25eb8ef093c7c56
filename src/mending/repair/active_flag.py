"""The repair `active-flag`: the flag on the one volume that can be started, and on no other."""

from mending.boot import startable
from mending.disk import Disk, Scheme, Volume
from mending.formats import mbr
from mending.model import Patch, RefusedError
from mending.repair.proposal import Proposal, Request

REPAIR = "active-flag"
_ANSWERS = ("no-active-entry", "two-active-entries", "active-entry-extended")
_PRIMARY = range(1, 5)


def propose(request: Request) -> Proposal:
    """One patch of one byte for every flag that changes.

    Raises:
        RefusedError: no table of this kind, or not exactly one volume that could be started.
    """
    disk, trace = request.disk, request.trace
    if disk.scheme is not Scheme.MBR:
        raise RefusedError("This disk has no table with active flags.", "A GPT disk is started in another way.")
    right = _right_one(disk)
    listed = [volume for volume in disk.volumes if volume.number in _PRIMARY]
    patches = tuple(patch for volume in listed if (patch := _patch(disk, volume, volume is right)))
    if not patches:
        raise RefusedError("The active flag is on the one volume that can be started.", "There is nothing to write.")
    present = {finding.id for finding in trace.findings}
    says = f"Marks entry {right.number} active, the only volume that boot code could start, and no other."
    return Proposal(REPAIR, says, patches, tuple(one for one in _ANSWERS if one in present))


def _right_one(disk: Disk) -> Volume:
    found = startable(disk)
    if len(found) == 1:
        return found[0]
    if not found:
        raise RefusedError("No volume holds a boot sector that could be started.", "Mend its boot sector first.")
    numbers = " and ".join(str(volume.number) for volume in found)
    raise RefusedError(f"Volumes {numbers} could both be started; which one is right cannot be told.", "Ask the user.")


def _patch(disk: Disk, volume: Volume, active: bool) -> Patch | None:
    before = disk.source.read(volume.entry_offset, 1).data
    after = bytes([mbr.ACTIVE if active else 0])
    what = f"flag of entry {volume.number}: {'active' if active else 'not active'}"
    return Patch(volume.entry_offset, before, after, what) if before != after else None
