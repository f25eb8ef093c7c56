"""The repair `boot-sector`: a volume's boot sector from its own second copy (FAT32, exFAT,
NTFS).
"""

import msgspec

from mending.boot.chain import Trace
from mending.disk.ext import ExtVolume
from mending.disk.fat import FatCopy, read_fats, sound_one
from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import Disk, volume_at
from mending.disk.system import read_contents
from mending.disk.volume import (
    SuperblockCopy,
    Volume,
    copy_at,
    fat_volume,
    file_table_records,
    first_superblock_backup,
    superblock_copy,
)
from mending.formats import exfat, ext, fat, ntfs
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    InputError,
    Lba,
    Patch,
    ReadError,
    RefusedError,
    RepairId,
    SectorCount,
    Window,
    crc32c,
)
from mending.repair.base import Proposal, Request, check_awake
from mending.source import Source, as_disk
from mending.source.stitched import OverlaidSource

BOOT_SECTOR = RepairId.BOOT_SECTOR
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


def propose_boot_sector(request: Request) -> Proposal:
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
        repair=BOOT_SECTOR,
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
        BOOT_SECTOR in finding.repairs and _at(finding.where.offset, volume)
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


# The part of the repair `superblock` that is for XFS and Btrfs: the first superblock from a copy.
#
# A copy of XFS may be old in what is counted: inodes and free blocks. They are counted anew from
# the heads of all groups, as the kernel does where a volume was not closed properly. Before
# anything is written, the root folder has to be where the copy says. Btrfs writes its copies
# together with the first one; only the place in it differs.
#
# Source: "XFS Algorithms & Data Structures", third edition, chapters "Superblocks", "AG Free Space
# Block" and "AG Inode Management"; Linux `fs/xfs/libxfs/xfs_ag.c` (`xfs_initialize_perag_data`).


_ONES = 0xFFFF_FFFF
_MOST_GROUPS, _NO_INODE = 65_536, b"\xff" * 8


def superblock_patch(source: Source, volume: Volume, copy: SuperblockCopy) -> Patch:
    """The patch that writes it.

    Raises:
        RefusedError: more than the superblock is lost.
    """
    try:
        after = _xfs(source, volume, copy) if copy.first == 0 else _btrfs(copy)
    except InputError as error:
        raise RefusedError(
            f"More than the superblock of volume {volume.number} is lost: {error.says}",
            "Check the file system from a rescue stick, on a copy of the drive.",
        ) from error
    at = volume.offset + copy.first
    _refuse_without_root(source, volume, at, after)
    says = f"first superblock of volume {volume.number}, from the copy at {copy.place}"
    return Patch(at, source.read(at, len(after)).data, after, says)


def _refuse_without_root(source: Source, volume: Volume, at: int, after: bytes) -> None:
    patched = OverlaidSource(source, at, len(after), lambda into, count: after[into : into + count])
    sector = source.bytes_per_sector
    seen = volume_at(patched, Lba(volume.offset // sector), SectorCount(volume.bytes // sector))
    try:
        open_files(patched, seen).listing()
    except FilesUnavailableError as error:
        raise RefusedError(
            f"More than the superblock of volume {volume.number} is lost: {error.says}",
            "Check the file system from a rescue stick, on a copy of the drive.",
        ) from error


def _btrfs(copy: SuperblockCopy) -> bytes:
    data = bytearray(copy.data)
    data[48:56] = copy.first.to_bytes(8, "little")
    data[:4] = (crc32c(bytes(data[32:])) ^ _ONES).to_bytes(4, "little")
    return bytes(data)


def _xfs(source: Source, volume: Volume, copy: SuperblockCopy) -> bytes:
    data = bytearray(copy.data)
    size, sector = int.from_bytes(data[4:8], "big"), int.from_bytes(data[102:104], "big")
    group, groups = int.from_bytes(data[84:88], "big"), int.from_bytes(data[88:92], "big")
    if not 0 < groups <= _MOST_GROUPS:
        raise InputError(f"it names {groups} groups.")
    inodes = unused = free = 0
    for number in range(groups):
        start = volume.offset + number * group * size
        space = source.read(start + sector, sector).data
        kept = source.read(start + 2 * sector, sector).data
        if space[:4] != b"XAGF" or kept[:4] != b"XAGI":
            raise InputError(f"group {number} has no sound head.")
        free += sum(int.from_bytes(space[at : at + 4], "big") for at in (48, 52, 60))
        inodes += int.from_bytes(kept[16:20], "big")
        unused += int.from_bytes(kept[28:32], "big")
    root = int.from_bytes(data[56:64], "big")
    for at, behind in ((64, 1), (72, 2)):  # the inodes of a realtime part stand behind the root's
        if data[at : at + 8] == _NO_INODE:
            data[at : at + 8] = (root + behind).to_bytes(8, "big")
    data[126] = 0  # a program that makes the volume marks it while it is at work
    for at, value in ((128, inodes), (136, unused), (144, free)):
        data[at : at + 8] = value.to_bytes(8, "big")
    data[224:228] = bytes(4)
    data[224:228] = (crc32c(bytes(data)) ^ _ONES).to_bytes(4, "little")
    return bytes(data)


KINDS = frozenset({FilesystemKind.XFS, FilesystemKind.BTRFS})


# The repair `superblock`: the first superblock of a volume from a copy of it. What follows is for
# ext; for XFS and Btrfs see `superblock_from_copy`.
#
# What lies behind it is looked at first: the root folder must be where the copy says, by the
# descriptors that are there, for a superblock alone makes no volume. The journal is kept: where it
# holds something to replay, the new superblock asks for that, which the copy does not do by itself.
# That is why this repair, and no other, is let into a volume whose journal is not replayed: without
# a superblock it never could be.
#
# Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "The Super
# Block", "Block Group Descriptors", "Index Nodes" and "Journal (jbd2)".


SUPERBLOCK = RepairId.SUPERBLOCK
_CHECKED = ", not called clean, so that it is checked"
_SUPERBLOCK_ANSWERS = (FindingId.FIRST_SUPERBLOCK_LOST, FindingId.SUPERBLOCK_CHECKSUM)


def propose_superblock(request: Request) -> Proposal:
    """One patch for every volume that calls for it.

    Raises:
        RefusedError: no such volume, no sound copy, or more than the superblock is lost.
    """
    source = request.disk.source
    offsets = {
        fault.where.offset for fault in request.trace.findings if fault.id in _SUPERBLOCK_ANSWERS
    }
    wanted = [
        volume
        for volume in request.disk.volumes
        if any(_first(volume, offset) for offset in offsets)
    ]
    if not wanted:
        raise RefusedError("No volume has lost its first superblock.", "There is nothing to write.")
    for volume in request.disk.volumes:
        if volume.filesystem == FilesystemKind.SWAP:
            check_awake(
                read_contents(source, volume)
            )  # what sleeps in it still has the other volumes open
    patches = tuple(_patch_of(source, volume) for volume in wanted)
    numbers = " and ".join(str(volume.number) for volume in wanted)
    says = (
        f"Writes the first superblock of volume {numbers} from its copy"
        f"{_CHECKED if any(each.filesystem not in KINDS for each in wanted) else ''}."
    )
    return Proposal(
        repair=SUPERBLOCK,
        says=says,
        changes=patches,
        answers=request.found(*_SUPERBLOCK_ANSWERS),
    )


def _patch_of(source: Source, volume: Volume) -> Patch:
    if volume.filesystem not in KINDS:
        return _superblock_patch(source, volume)
    copy = superblock_copy(source, volume.offset, volume.bytes)
    if copy is None:
        raise RefusedError(
            f"No sound copy of the superblock of volume {volume.number} was found.",
            "Copy files off it.",
        )
    return superblock_patch(source, volume, copy)


def _first(volume: Volume, offset: int | None) -> bool:
    if volume.filesystem in KINDS:
        return bool(volume.boot.unread) and offset == volume.offset + volume.kind.first_structure
    start = volume.offset + ext.SUPERBLOCK_OFFSET
    return (
        volume.filesystem == FilesystemKind.EXT
        and offset is not None
        and start <= offset < start + ext.SIZE
    )


def _superblock_patch(source: Source, volume: Volume) -> Patch:
    at = volume.offset + ext.SUPERBLOCK_OFFSET
    before = source.read(at, ext.SIZE).data
    copy = _best_copy(source, volume)
    if copy is None:
        raise RefusedError(
            f"No sound copy of the superblock of volume {volume.number} was found.",
            "Copy files off it.",
        )
    if not _root_is_there(source, volume, copy):
        says = (
            f"More than the superblock of volume {volume.number} is lost: its root folder is not"
            " where it should be."
        )
        raise RefusedError(
            says, "Check the file system from a rescue stick, on a copy of the drive."
        )
    place = next(ext.copies(copy))
    whole = source.read(volume.offset + place, ext.SIZE).data
    after = ext.as_first(whole, recover=_journal_has_news(source, volume, copy))
    return Patch(
        at,
        before,
        after,
        f"first superblock of volume {volume.number}, from the copy in group {copy.group}",
    )


def _best_copy(source: Source, volume: Volume) -> ext.Superblock | None:
    """The copy in group 1, by the layout that the first one shows where it can, else by the usual
    places.
    """
    reading = ext.read(source.read(volume.offset, ext.SUPERBLOCK_OFFSET + ext.SIZE))
    if {problem.code for problem in reading.problems} <= {ext.CHECKSUM}:
        place = next(ext.copies(reading.record), None)
        found = copy_at(source, volume, place) if place is not None else None
        if found is not None and found.identity == reading.record.identity:
            return found
    return first_superblock_backup(source, volume.offset, volume.bytes)


def _root_is_there(source: Source, volume: Volume, copy: ext.Superblock) -> bool:
    """Whether the root's inode is a folder, found through the descriptors behind the place of the
    first superblock.
    """
    try:
        return ExtVolume(source, volume.offset, copy).inode(ext.ROOT_INODE).is_folder
    except InputError:
        return False


def _journal_has_news(source: Source, volume: Volume, copy: ext.Superblock) -> bool:
    """Whether the journal, found by the map that the copy keeps, holds something to replay."""
    block = _journal_block(copy)
    if block is None:
        return False
    try:
        return ext.journal_has_news(source.read(volume.offset + block * copy.block_size, 64).data)
    except InputError:
        return True  # what cannot be read is not thrown away: the check that follows decides


def _journal_block(copy: ext.Superblock) -> int | None:
    """Where the journal is on the volume, by the map that every copy keeps; None where there is
    none.
    """
    if copy.journal_backup != 1:
        return None
    kept = copy.journal_blocks[:60]
    node = ext.read_extents(Window(kept))
    if node.problems:  # a map of blocks, as ext3 keeps it
        return int.from_bytes(kept[:4], "little") or None
    extents = node.record.extents
    return extents[0].start if extents else None


# The repair `fat-mirror`: two FATs made alike, from the one by which folders and files hang
# together.


FAT_MIRROR = RepairId.FAT_MIRROR
_FAT_MIRROR_ANSWERS = (FindingId.FATS_DIFFER,)
_NEAR = 512
"""Bytes that differ this close to each other are written in one patch."""


def propose_fat_mirror(request: Request) -> Proposal:
    """Patches of the ranges in which the worse FAT differs.

    Raises:
        RefusedError: no volume whose FATs differ, or no telling which of them is sound.
    """
    source, named = (
        request.disk.source,
        [finding for finding in request.trace.findings if finding.id in _FAT_MIRROR_ANSWERS],
    )
    wanted = [
        volume
        for volume in request.disk.volumes
        if any(_inside(finding.where.offset, volume) for finding in named)
    ]
    if not wanted:
        raise RefusedError(
            "The two FATs of every volume agree, as far as they can be read.", "Nothing is written."
        )
    patches, says = [], []
    for volume in wanted:
        check_awake(read_contents(source, volume))
        good, bad, why = _pair(source, volume)
        patches += _patches(volume, good, bad)
        says.append(
            f"Makes FAT {bad.number} of volume {volume.number} like FAT {good.number}, because"
            f" {why}."
        )
    return Proposal(
        repair=FAT_MIRROR,
        says=" ".join(says),
        changes=tuple(patches),
        answers=request.found(*_FAT_MIRROR_ANSWERS),
    )


def _inside(offset: int | None, volume: Volume) -> bool:
    return offset is not None and volume.offset <= offset < volume.offset + volume.bytes


def _pair(source: Source, volume: Volume) -> tuple[FatCopy, FatCopy, str]:
    shape = fat_volume(source, volume)
    pair = read_fats(source, shape)
    good, why = sound_one(source, shape, pair)
    if good is None:
        raise RefusedError(
            f"Which FAT of volume {volume.number} is sound cannot be told: {why}.",
            "Copy files off it.",
        )
    bad = next(copy for copy in pair.copies if copy is not good)
    if bad.problem:
        raise RefusedError(
            f"FAT {bad.number} of volume {volume.number} cannot be read: {bad.problem}",
            "Copy it off.",
        )
    return good, bad, why


def _patches(volume: Volume, good: FatCopy, bad: FatCopy) -> list[Patch]:
    """One patch for every stretch that differs."""
    differ = [
        at
        for at in range(0, len(good.data), _NEAR)
        if good.data[at : at + _NEAR] != bad.data[at : at + _NEAR]
    ]
    patches = []
    while differ:
        start = end = differ.pop(0)
        while differ and differ[0] == end + _NEAR:
            end = differ.pop(0)
        unlike = [
            at
            for at in range(start, min(end + _NEAR, len(good.data)))
            if good.data[at] != bad.data[at]
        ]
        first, last = unlike[0], unlike[-1] + 1
        says = f"FAT {bad.number} of volume {volume.number}"
        patches.append(Patch(bad.offset + first, bad.data[first:last], good.data[first:last], says))
    return patches


# The repair `ntfs-mirror`: the first records of the file table from the copy that is sound.
#
# An NTFS volume keeps its first four records twice (`$MFT` and `$MFTMirr`). Record by record the
# sound one is copied over the damaged one; where both are sound and differ, the table counts.
# Source: public descriptions of the file system; which record is sound its own marks tell.


FILE_TABLE_MIRROR = RepairId.NTFS_MIRROR
_KINDS = (
    FindingId.FILE_TABLE_DAMAGED,
    FindingId.FILE_TABLE_MIRROR_DAMAGED,
    FindingId.FILE_TABLE_MIRROR_DIFFERS,
)


def propose_file_table_mirror(request: Request) -> Proposal:
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
        repair=FILE_TABLE_MIRROR,
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
