"""The part of the repair `superblock` that is for XFS and Btrfs: the first superblock from a copy.

A copy of XFS may be old in what is counted: inodes and free blocks. They are counted anew from the
heads of all groups, as the kernel does where a volume was not closed properly. Before anything is
written, the root folder has to be where the copy says. Btrfs writes its copies together with the
first one; only the place in it differs.

Source: "XFS Algorithms & Data Structures", third edition, chapters "Superblocks", "AG Free Space
Block" and "AG Inode Management"; Linux `fs/xfs/libxfs/xfs_ag.c` (`xfs_initialize_perag_data`).
"""

from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import volume_at
from mending.disk.volume import SuperblockCopy, Volume
from mending.model import (
    FilesystemKind,
    InputError,
    Lba,
    Patch,
    RefusedError,
    SectorCount,
    crc32c,
)
from mending.source import Source
from mending.source.stitched import OverlaidSource

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
