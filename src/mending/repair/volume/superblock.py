"""The repair `superblock`: the first superblock of a volume from a copy of it. What follows is for
ext; for XFS and Btrfs see `superblock_from_copy`.

What lies behind it is looked at first: the root folder must be where the copy says, by the
descriptors that are there, for a superblock alone makes no volume. The journal is kept: where it
holds something to replay, the new superblock asks for that, which the copy does not do by itself.
That is why this repair, and no other, is let into a volume whose journal is not replayed: without a
superblock it never could be.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "The Super
Block", "Block Group Descriptors", "Index Nodes" and "Journal (jbd2)".
"""

from mending.disk.ext import ExtVolume
from mending.disk.system import read_contents
from mending.disk.volume import Volume, copy_at, first_superblock_backup, superblock_copy
from mending.formats.filesystem import ext, ext_extents, ext_inodes
from mending.model import (
    FilesystemKind,
    FindingId,
    InputError,
    Patch,
    RefusedError,
    RepairId,
    Window,
)
from mending.repair.base import Proposal, Request, check_awake
from mending.repair.volume.superblock_from_copy import KINDS, superblock_patch
from mending.source import Source

REPAIR = RepairId.SUPERBLOCK
_CHECKED = ", not called clean, so that it is checked"
_ANSWERS = (FindingId.FIRST_SUPERBLOCK_LOST, FindingId.SUPERBLOCK_CHECKSUM)


def propose(request: Request) -> Proposal:
    """One patch for every volume that calls for it.

    Raises:
        RefusedError: no such volume, no sound copy, or more than the superblock is lost.
    """
    source = request.disk.source
    offsets = {fault.where.offset for fault in request.trace.findings if fault.id in _ANSWERS}
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
        repair=REPAIR,
        says=says,
        changes=patches,
        answers=request.found(*_ANSWERS),
    )


def _patch_of(source: Source, volume: Volume) -> Patch:
    if volume.filesystem not in KINDS:
        return _patch(source, volume)
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


def _patch(source: Source, volume: Volume) -> Patch:
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
        return ExtVolume(source, volume.offset, copy).inode(ext_inodes.ROOT).is_folder
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
    node = ext_extents.read(Window(kept))
    if node.problems:  # a map of blocks, as ext3 keeps it
        return int.from_bytes(kept[:4], "little") or None
    extents = node.record.extents
    return extents[0].start if extents else None
