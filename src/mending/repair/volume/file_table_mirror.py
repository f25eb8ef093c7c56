"""The repair `ntfs-mirror`: the first records of the file table from the copy that is sound.

An NTFS volume keeps its first four records twice (`$MFT` and `$MFTMirr`). Record by record the
sound one is copied over the damaged one; where both are sound and differ, the table counts.
Source: public descriptions of the file system; which record is sound its own marks tell.
"""

from mending.disk.system import read_contents
from mending.disk.volume import Volume, file_table_records
from mending.model import FilesystemKind, FindingId, Patch, RefusedError, RepairId
from mending.repair.base import Proposal, Request, check_awake

REPAIR = RepairId.NTFS_MIRROR
_KINDS = (
    FindingId.FILE_TABLE_DAMAGED,
    FindingId.FILE_TABLE_MIRROR_DAMAGED,
    FindingId.FILE_TABLE_MIRROR_DIFFERS,
)


def propose(request: Request) -> Proposal:
    """Patches of records that are damaged in one copy.

    Raises:
        RefusedError: both copies of a record are damaged, or nothing is.
    """
    disk, patches, told = request.disk, list[Patch](), list[str]()
    for volume in request.environment.volumes:
        if volume.filesystem is not FilesystemKind.NTFS or not volume.boot.sound:
            continue
        found = _of_volume(request, volume)
        if found:
            check_awake(read_contents(disk.source, volume))
            told.append(f"{len(found)} on volume {volume.number}")
        patches += found
    if not patches:
        raise RefusedError("Both copies of the first records agree.", "Nothing is written.")
    return Proposal(
        repair=REPAIR,
        says=f"Copies first records of the file table from the sound copy: {', '.join(told)}.",
        changes=tuple(patches),
        answers=request.found(*_KINDS),
    )


def _of_volume(request: Request, volume: Volume) -> list[Patch]:
    patches = []
    for number, (first, second) in enumerate(file_table_records(request.disk.source, volume)):
        if not first.sound and not second.sound:
            raise RefusedError(
                f"Both copies of record {number} of the file table of volume {volume.number} are"
                " damaged.",
                "Copy personal files off with `mending search`; then the volume is made anew.",
            )
        good, bad = (first, second) if first.sound else (second, first)
        if not bad.sound or good.stable != bad.stable:
            says = f"record {number} of the file table of volume {volume.number}"
            patches.append(Patch(bad.offset, bad.data, good.data, says))
    return patches
