"""The repair `boot-sector`: a volume's boot sector from its own second copy (FAT32, exFAT,
NTFS).
"""

import msgspec

from mending.boot.chain import Trace
from mending.disk.layout import Disk, volume_at
from mending.disk.system import read_contents
from mending.disk.volume import Volume
from mending.formats.filesystem import exfat, fat, ntfs
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Patch,
    ReadError,
    RefusedError,
    RepairId,
    Window,
)
from mending.repair.base import Proposal, Request, check_awake
from mending.source import Source, as_disk

REPAIR = RepairId.BOOT_SECTOR
_ANSWERS = (
    FindingId.VOLUME_BOOT_SECTOR_BLANK,
    FindingId.VOLUME_BOOT_SECTOR_DAMAGED,
    FindingId.VOLUME_BOOT_SECTOR_UNKNOWN,
    FindingId.VOLUME_BOOT_CODE_BLANK,
    FindingId.HIDDEN_SECTORS_WRONG,
    FindingId.EFI_VOLUME_DAMAGED,
    FindingId.BOOT_SECTOR_ODD,
    FindingId.OTHER_BOOT_SECTOR_DAMAGED,
    FindingId.SYSTEM_VOLUME_LOST,
)


def propose(request: Request) -> Proposal:
    """The patches for every volume whose boot sector is worse than its copy.

    Raises:
        RefusedError: no such volume, or the copy does not fit what lies in the volume.
    """
    disk, trace = request.disk, request.trace
    wanted = [volume for volume in disk.volumes if _calls_for_it(volume, trace)]
    if not wanted:
        raise RefusedError(*_why_not(disk, trace))
    patches = tuple(_patch(disk.source, volume) for volume in wanted)
    overlay = disk.source.overlaid(patches)
    for volume in wanted:
        _refuse_if_asleep(as_disk(overlay), volume)
    numbers = " and ".join(str(volume.number) for volume in wanted)
    says = f"Writes the boot sector of volume {numbers} from the copy that the volume itself keeps."
    return Proposal(
        repair=REPAIR,
        says=says,
        changes=patches,
        answers=_answered(request, wanted),
    )


def _answered(request: Request, wanted: list[Volume]) -> tuple[Finding, ...]:
    """The findings about the volumes whose boot sectors are written."""
    found = request.found(*_ANSWERS)
    return tuple(
        finding for finding in found if any(_at(finding.where.offset, volume) for volume in wanted)
    )


def _calls_for_it(volume: Volume, trace: Trace) -> bool:
    backup = volume.boot.backup
    if backup is None or not backup.sound or backup.agrees:
        return False
    named = any(
        REPAIR in finding.repairs and _at(finding.where.offset, volume)
        for finding in trace.findings
    )
    return not volume.boot.sound or named


def _at(offset: int | None, volume: Volume) -> bool:
    return offset is not None and volume.offset <= offset < volume.offset + 512


def _why_not(disk: Disk, trace: Trace) -> tuple[str, str]:
    found = [finding.where.offset for finding in trace.findings]
    damaged = [
        volume
        for volume in disk.volumes
        if not volume.boot.sound and any(_at(offset, volume) for offset in found)
    ]
    if not damaged:
        return "No boot sector calls for it.", "There is nothing to write."
    worse = damaged[0].boot.backup
    if worse is None:
        return (
            f"Volume {damaged[0].number} keeps no copy of its boot sector that can be found.",
            "Use another way.",
        )
    return (
        f"The copy of the boot sector of volume {damaged[0].number} is damaged too.",
        "Use another way.",
    )


def _patch(source: Source, volume: Volume) -> Patch:
    backup = volume.boot.backup
    assert backup is not None
    copy = source.read(backup.offset, backup.length)
    length = _length_in_copy(copy)
    if length > volume.bytes:
        says = (
            f"The copy describes a volume of {length} bytes; the table gives volume {volume.number}"
            f" {volume.bytes}."
        )
        raise RefusedError(says, "The copy may be an older volume's.")
    if not _fits_content(source, volume, copy):
        says = (
            f"The copy does not fit what lies in volume {volume.number}: its tables are not where"
            " it says."
        )
        raise RefusedError(says, "The copy may be an older volume's.")
    before = source.read(volume.offset, backup.length).data
    return Patch(volume.offset, before, copy.data, f"boot sector of volume {volume.number}")


def _length_in_copy(copy: Window) -> int:
    if exfat.looks_like(copy):
        volume = exfat.read(copy).record
        return volume.sectors * volume.bytes_per_sector
    if ntfs.looks_like(copy):
        nt = ntfs.read(copy).record
        return nt.sectors * nt.fields.bytes_per_sector
    plain = fat.read(copy).record
    return plain.sectors * plain.fields.bytes_per_sector


def _fits_content(source: Source, volume: Volume, copy: Window) -> bool:
    """Whether the first structure that the copy points at is there: a FAT with its media byte, or
    the file table.
    """
    if exfat.looks_like(copy):
        exfat_volume = exfat.read(copy).record
        place, wanted = (
            exfat_volume.fields.fat_offset * exfat_volume.bytes_per_sector,
            b"\xf8\xff\xff\xff",
        )
    elif ntfs.looks_like(copy):
        nt = ntfs.read(copy).record
        cluster = nt.cluster_sectors * nt.fields.bytes_per_sector
        place, wanted = nt.fields.mft_cluster * cluster, b"FILE"
    else:
        fields = fat.read(copy).record.fields
        place, wanted = (
            fields.reserved_sectors * fields.bytes_per_sector,
            bytes([fields.media, 0xFF, 0xFF]),
        )
    try:
        return source.read(volume.offset + place, len(wanted)).data == wanted
    except ReadError:
        return False


def _refuse_if_asleep(patched: Source, volume: Volume) -> None:
    """Nothing is written into a volume that a sleeping system believes to own; it can be read once
    patched.
    """
    mended = volume_at(patched, volume.start, volume.sectors)
    if mended.filesystem is FilesystemKind.NTFS:
        contents = read_contents(patched, mended)
        named = msgspec.structs.replace(contents.volume, number=volume.number)
        check_awake(msgspec.structs.replace(contents, volume=named))
