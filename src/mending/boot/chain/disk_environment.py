"""The boot environment of a disk."""

from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from mending.boot.chain.environment import BootEnvironment, FreeSpace
from mending.disk.files import Files, open_files
from mending.disk.layout import (
    Disk,
    mirrored,
    with_arrays,
    with_logical_volumes,
    with_other_disks,
)
from mending.disk.system import Contents, read_contents
from mending.disk.volume import (
    SOUND_FAT,
    Volume,
    first_superblock_backup,
    read_volume_info,
    superblock_copy,
)
from mending.formats.btrfs import tree
from mending.formats.filesystem import ext
from mending.formats.xfs import structures as xfs
from mending.model import Change, FileChange, FilesystemKind, Where
from mending.source import Source
from mending.source.stitched import ViewedSource

if TYPE_CHECKING:
    from mending.disk.locked import KeyRing

_LEAST_INODE = 512
_CASE_COUNTS = {"label", "partlabel"}
_READ_ONLY_FEATURE = 0x1000
"""Of an ext volume: never mounted for writing (`EXT4_FEATURE_RO_COMPAT_READONLY`)."""


class DiskEnvironment(BootEnvironment):
    """See `BootEnvironment`."""

    disk: Disk

    def __init__(
        self, disk: Disk, keys: "KeyRing | None" = None, others: Sequence[Source] = ()
    ) -> None:
        super().__init__()
        source, beside = with_other_disks(disk.source, others)
        source, self.arrays = with_arrays(source, (*disk.volumes, *beside))
        held = tuple(array.volume for array in self.arrays if array.volume is not None)
        self._inside = dict[int, Volume]()
        outer = (*disk.volumes, *beside, *held)
        if keys is not None or any(each.encrypted for each in outer):
            from mending.disk.locked import KeyRing, with_unlocked_volumes  # noqa: PLC0415 - lazy

            opened = keys or KeyRing(None)
            source, self._inside = with_unlocked_volumes(source, outer, opened)
        self._viewed = source if isinstance(source, ViewedSource) else None
        plain = (*outer, *self._inside.values())
        source, self._logical = with_logical_volumes(source, plain)
        self._called: dict[str, int] = {}
        listed = tuple(mirrored(volume, self.arrays) for volume in disk.volumes)
        self.disk = msgspec.structs.replace(disk, source=source, volumes=listed)
        self._held = (*(mirrored(volume, self.arrays) for volume in beside), *held)
        self._contents: dict[int, Contents] = {}

    @property
    def has_unlocked(self) -> bool:
        """Whether something inside a locked volume is looked at."""
        return bool(self._inside)

    def on_disk(self, changes: Sequence[Change]) -> tuple[Change, ...]:
        """See `BootEnvironment.on_disk`."""
        if self._viewed is None:
            return tuple(changes)
        files = [each for each in changes if isinstance(each, FileChange)]
        patches = [each for each in changes if not isinstance(each, FileChange)]
        return (*files, *self._viewed.on_disk(patches))

    @property
    def volumes(self) -> tuple[Volume, ...]:
        """See `BootEnvironment.volumes`."""
        return (*self.disk.volumes, *self._held, *self._inside.values(), *self._logical)

    def meant(self, name: str) -> list[Volume]:
        """See `BootEnvironment.meant`."""
        kinds = {FilesystemKind.LVM, FilesystemKind.SWAP}
        plain = [each for each in self._inside.values() if each.filesystem not in kinds]
        if len(plain) != 1:
            return []
        self._called[name.lower()] = plain[0].number
        return plain

    def inside(self, volume: Volume) -> Volume:
        """See `BootEnvironment.inside`."""
        return self._inside.get(volume.number, volume)

    def outside(self, volume: Volume) -> Volume:
        """See `BootEnvironment.outside`."""
        listed = (*self.disk.volumes, *self._held)
        held = (outer for outer in listed if self._inside.get(outer.number) == volume)
        return next(held, volume)

    def contents(self, volume: Volume) -> Contents:
        """See `BootEnvironment.contents`."""
        if volume.number not in self._contents:
            self._contents[volume.number] = read_contents(self.disk.source, volume)
        return self._contents[volume.number]

    def named(self, kind: str, value: str) -> list[Volume]:
        """See `BootEnvironment.named`; case does not count but for labels."""
        wanted = value if kind in _CASE_COUNTS else value.lower()
        found = []
        for volume in self.volumes:
            called = kind == "mapped" and self._called.get(wanted) == volume.number
            if called or (
                not volume.extended and wanted and _same(kind, self._name(volume, kind), wanted)
            ):
                found.append(volume)
        if not found and kind == "array" and value.isdigit() and len(self.arrays) == 1:
            # the number that the kernel gives an array without a fitting name
            found = [each for each in self.volumes if each.array == self.arrays[0].id]
        stale = {each.number for array in self.arrays for each in array.stale}
        return _one_of_each_mirror(sorted(found, key=lambda each: each.number in stale))

    def _name(self, volume: Volume, kind: str) -> str:
        info = self.contents(volume).info
        names = {
            "uuid": info.identifier.lower(),
            "label": info.label or ("" if volume.kind.is_fat else volume.label),
            "partuuid": volume.partuuid.lower(),
            "partlabel": volume.partlabel,
            "mapped": volume.mapped.lower(),
            "array": self._array_name(volume),
            "array-id": volume.array,
        }
        return names.get(kind, "")

    def _array_name(self, volume: Volume) -> str:
        named = (array.name for array in self.arrays if array.id == volume.array)
        return next(named, "").lower()

    def lost_volume(self, value: str) -> Volume | None:
        """See `BootEnvironment.lost_volume`."""
        for volume in self.volumes:
            if not volume.boot.unread:
                continue
            if volume.filesystem is not FilesystemKind.EXT:
                copy = superblock_copy(self.disk.source, volume.offset, volume.bytes)
                names = {name.lower() for name in copy.info if name} if copy is not None else ()
                if value.lower() in names:
                    return volume
                continue
            backup = first_superblock_backup(self.disk.source, volume.offset, volume.bytes)
            info = ext.volume_info(backup) if backup is not None else None
            if info is not None and value.lower() in {info.identifier, info.label.lower()}:
                return volume
        return None

    def unknown(self) -> list[Volume]:
        """See `BootEnvironment.unknown`."""
        hidden = [each for each in self.volumes if each.kind.hides_names or each.boot.unread]
        return [volume for volume in hidden if not self._is_all_read(volume)]

    def _is_all_read(self, volume: Volume) -> bool:
        """Whether a locked volume is unlocked, or a physical volume hides nothing: every volume of
        its group can be read.
        """
        if volume.number in self._inside:
            return True
        if any(volume.number in array.member_numbers for array in self.arrays if not array.unread):
            return True
        names = self.contents(volume).info.logical
        return bool(names) and set(names) <= {logical.mapped for logical in self._logical}

    def why_hidden(self, volume: Volume) -> str:
        """See `BootEnvironment.why_hidden`."""
        for array in self.arrays:
            if array.unread and volume.number in array.member_numbers:
                return f"array {array.name}, {array.kind}: {array.unread}"
        if volume.filesystem is not FilesystemKind.LVM:
            return ""
        at_hand = {
            self.contents(each).info.identifier
            for each in self.volumes
            if each.filesystem is FilesystemKind.LVM
        }
        info = self.contents(volume).info
        gone = [each for each in info.physical if each not in at_hand]
        return f"group {info.group}: physical volume {gone[0]} is not at hand" if gone else ""

    def free_space(self, volume: Volume) -> FreeSpace | None:
        """See `BootEnvironment.free_space`; superblocks of ext, XFS and Btrfs tell of it."""
        if volume.filesystem is not FilesystemKind.EXT:
            return self._free_space_of_others(volume)
        head = self.disk.source.read(volume.offset + ext.SUPERBLOCK_OFFSET, ext.SIZE)
        block, info = ext.SUPERBLOCK.read(head, 0), self.contents(volume).info
        reserved = block.reserved_blocks_low * block.block_size
        return FreeSpace(
            bytes=max(info.bytes - (info.used or 0) - reserved, 0),
            inodes=block.free_inodes,
            never_written=bool(block.read_only & _READ_ONLY_FEATURE),
            where=Where(offset=head.offset, length=len(head.data)),
        )

    def _free_space_of_others(self, volume: Volume) -> FreeSpace | None:
        """File systems that make inodes as they need them."""
        at, length = int(volume.offset), xfs.SIZE
        if volume.filesystem is FilesystemKind.BTRFS:
            at, length = volume.offset + tree.SUPERBLOCK_AT, tree.SUPERBLOCK_BYTES
        head = self.disk.source.read(at, length)
        if volume.filesystem is FilesystemKind.XFS and len(head) == xfs.SIZE:
            free = xfs.free_bytes(xfs.SUPERBLOCK.read(head, 0))
        elif volume.filesystem is FilesystemKind.BTRFS:
            block = tree.read_superblock(head.data)
            if block is None:
                return None
            free = block.free
        else:
            return None
        where = Where(offset=at, length=length)
        return FreeSpace(bytes=free, inodes=free // _LEAST_INODE, where=where)

    def fats_can_be_mended(self, volume: Volume) -> bool:
        """See `BootEnvironment.fats_can_be_mended`."""
        problems = read_volume_info(self.disk.source, volume).problems
        return any(bool(problem.values.get(SOUND_FAT)) for problem in problems)

    def _open(self, volume: Volume) -> Files:
        return open_files(self.disk.source, volume)


def _one_of_each_mirror(volumes: list[Volume]) -> list[Volume]:
    """Members of a mirror bear the names of what is in it, all the same ones."""
    seen: set[str] = set()
    found = []
    for volume in volumes:
        if volume.array and volume.array in seen:
            continue
        seen.add(volume.array)
        found.append(volume)
    return found


def _same(kind: str, name: str, wanted: str) -> bool:
    """NTFS serial numbers are written without their leading zeros by some."""
    if name == wanted:
        return True
    return kind == "uuid" and bool(name) and name.lstrip("0") == wanted.lstrip("0")
