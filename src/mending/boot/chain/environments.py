"""What checks look at: the volumes of a disk or of a mounted tree, as a boot manager sees them.

A boot manager names volumes in its own ways: by number (`hd0,msdos1`), by identifier or label, by a
file that is on them. `BootEnvironment` answers in these terms, opens each volume once, and is the
same for a disk and for a tree; `open_environment` makes the one that fits a target.
"""

import re
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from mending.boot.chain.results import OutOfReachError
from mending.disk.files import (
    FileFound,
    Files,
    FilesUnavailableError,
    open_files,
    open_memory_disk,
    open_tree,
)
from mending.disk.layout import (
    Array,
    Disk,
    mirrored,
    with_arrays,
    with_logical_volumes,
    with_other_disks,
)
from mending.disk.system import Contents, read_contents, systems_on
from mending.disk.volume import (
    SOUND_FAT,
    BootSector,
    Volume,
    first_superblock_backup,
    read_volume_info,
    superblock_copy,
)
from mending.formats import btrfs, ext
from mending.formats import xfs as xfs
from mending.model import (
    ByteOffset,
    Change,
    FileChange,
    FilesystemKind,
    InputError,
    Lba,
    SectorCount,
    VolumeInfo,
    Where,
)
from mending.model.limits import FILE_BYTES
from mending.source import MountedTree, Source
from mending.source.stitched import ViewedSource

MEMORY_DISK = "memdisk"
"""What GRUB calls the memory disk of the image that runs."""
_MEMORY_DISK_NUMBER = -1
_ID_PARTS = (6, 4, 4, 4, 4, 4, 6)
_DEVICE = re.compile(r"(?:hd0)?,?(?:(?:msdos|gpt)?(\d+))?(?:,.*)?")
_LOGICAL = re.compile(r"(lvm|lvmid)/(.+)")
_ARRAY = re.compile(r"mduuid/([0-9a-f]{32})|md/?(.+)")
_ELSEWHERE = re.compile(r"(hd[1-9]|cd|fd|lvm/|lvmid/|md|ieee|crypto|proc|tftp|http|loop)")


class FreeSpace(msgspec.Struct, frozen=True, kw_only=True):
    """Room on a volume.

    Attributes:
        bytes: free for everybody.
        inodes: free, each enough for one more file.
        never_written: the volume is marked so that it is never mounted for writing.
        where: where that was read.
    """

    bytes: int
    inodes: int
    never_written: bool = False
    where: Where = Where()


class BootEnvironment(ABC):
    """Volumes and their files, each opened once.

    Attributes:
        disk: None for a mounted tree.
        knows_names: whether the identifiers and labels of all volumes are known.
        arrays: of which members are at hand.
    """

    disk: Disk | None = None
    knows_names = True
    arrays: tuple[Array, ...] = ()

    def __init__(self) -> None:
        self._files: dict[tuple[int, str], Files] = {}
        self._memory_disk: Volume | None = None

    def on_disk(self, changes: Sequence[Change]) -> tuple[Change, ...]:
        """Changes as the target itself takes them: what lies inside an unlocked volume is locked
        again.

        Raises:
            RefusedError: a place that cannot be changed.
        """
        return tuple(changes)

    @property
    @abstractmethod
    def volumes(self) -> tuple[Volume, ...]:
        """All volumes, in the order of the table."""

    def meant(self, name: str) -> list[Volume]:
        """The unlocked volume that alone can be meant by a name below `/dev/mapper`, which stands
        in the initramfs; it is known by it from then on.
        """
        del name
        return []

    def inside(self, volume: Volume) -> Volume:
        """What a volume holds once it is unlocked; the volume itself where it was not locked."""
        return volume

    def outside(self, volume: Volume) -> Volume:
        """The volume of the table that holds an unlocked one."""
        return volume

    @abstractmethod
    def contents(self, volume: Volume) -> Contents:
        """What a volume says of itself, looked at once."""

    @abstractmethod
    def named(self, kind: str, value: str) -> list[Volume]:
        """Volumes by `uuid`, `label`, `partuuid` or `partlabel`."""

    @abstractmethod
    def lost_volume(self, value: str) -> Volume | None:
        """The volume whose lost first superblock bore a name, told by a copy of it."""

    @abstractmethod
    def unknown(self) -> list[Volume]:
        """Volumes that may bear any name: encrypted, pools of others, unreadable."""

    @abstractmethod
    def free_space(self, volume: Volume) -> FreeSpace | None:
        """Room on a volume; None where that cannot be told."""

    @abstractmethod
    def fats_can_be_mended(self, volume: Volume) -> bool:
        """Whether the FATs of a volume differ and one of them is known to be sound."""

    @abstractmethod
    def _open(self, volume: Volume) -> Files:
        """Open a volume.

        Raises:
            FilesUnavailableError
        """

    def why_hidden(self, volume: Volume) -> str:
        """What keeps a volume that may hold others from being read, where that is known."""
        del volume
        return ""

    def files(self, volume: Volume) -> Files:
        """The opened volume.

        Raises:
            FilesUnavailableError
        """
        key = volume.number, volume.top
        if key not in self._files:
            self._files[key] = self._open(volume)
        return self._files[key]

    def device(self, name: str) -> Volume | None:
        """The volume that GRUB calls `hd0,msdos1`, `hd0,gpt2` or `,2`; None where there is none of
        that number.

        Raises:
            OutOfReachError: it is on another disk, or of another kind.
        """
        inside = name.strip("()")
        if inside == MEMORY_DISK:
            if self._memory_disk is None:
                raise OutOfReachError("the image carries no memory disk")
            return self._memory_disk
        logical = _LOGICAL.fullmatch(inside)
        if logical is not None:
            name = logical.group(2)
            found = [each for each in self.volumes if name in (each.mapped, _plain_id(each))]
            if found:
                return found[0]
        array = _ARRAY.fullmatch(inside)
        if array is not None:
            kind, value = ("array-id", array[1]) if array[1] else ("array", array[2])
            found = self.named(kind, value)
            if found:
                return found[0]
        match = _DEVICE.fullmatch(inside)
        if _ELSEWHERE.match(inside) or match is None or match.group(1) is None:
            raise OutOfReachError(f"{name or 'the device'} is not a volume of this disk")
        return self.numbered(int(match.group(1)))

    def device_of(self, volume: Volume) -> str:
        """What GRUB calls a volume."""
        if volume.array:
            return f"mduuid/{volume.array}"
        if volume.mapped:
            return f"lvm/{volume.mapped}"
        return MEMORY_DISK if volume is self._memory_disk else f"hd0,{volume.number}"

    def attach_memory_disk(self, data: bytes) -> None:
        """Let `(memdisk)` mean the memory disk of a boot manager's image from now on.

        Raises:
            FilesUnavailableError: it can be read neither as archive nor as FAT.
        """
        self._files[_MEMORY_DISK_NUMBER, ""] = open_memory_disk(data)
        self._memory_disk = pseudo_volume(
            _MEMORY_DISK_NUMBER, FilesystemKind.MEMORY_DISK, label="the memory disk"
        )

    @property
    def searched(self) -> tuple[Volume, ...]:
        """Where a boot manager looks for a file: all volumes, then its memory disk."""
        return (*self.volumes, *((self._memory_disk,) if self._memory_disk is not None else ()))

    def numbered(self, number: int) -> Volume | None:
        """The volume with this number."""
        for volume in self.volumes:
            if volume.number == number and not volume.extended:
                return volume
        return None

    def find(self, volume: Volume, path: str) -> FileFound | None:
        """A file.

        Raises:
            OutOfReachError: files of the volume cannot be read.
        """
        try:
            return self.files(volume).find(path)
        except FilesUnavailableError as error:
            raise OutOfReachError(error.says) from error

    def read(self, volume: Volume, path: str, limit: int = FILE_BYTES) -> bytes:
        """The content of a file, whole; empty where there is none.

        Raises:
            OutOfReachError: it cannot be read, or has more than `limit` bytes. What is decided by
                a part of a file is decided by chance.
        """
        found = self.find(volume, path)
        if found is not None and found.bytes > limit:
            raise OutOfReachError(f"{path} has {found.bytes} bytes; at most {limit} are read.")
        return self.read_head(volume, path, limit)

    def read_head(self, volume: Volume, path: str, length: int) -> bytes:
        """The first bytes of a file; empty where there is none. Raises OutOfReachError."""
        found = self.find(volume, path)
        if found is None:
            return b""
        try:
            return self.files(volume).read(found, length)
        except FilesUnavailableError as error:
            raise OutOfReachError(error.says) from error

    def read_text(self, volume: Volume, path: str) -> str:
        """The same as text; what is no UTF-8 is replaced.

        Raises:
            OutOfReachError
        """
        return self.read(volume, path).decode("utf-8", errors="replace")

    def listing(self, volume: Volume, folder: str) -> list[FileFound]:
        """What is in a folder; nothing where none is there. Raises OutOfReachError."""
        home = self.find(volume, folder)
        if home is None or not home.is_folder:
            return []
        try:
            return self.files(volume).listing(home.path)
        except FilesUnavailableError as error:
            raise OutOfReachError(error.says) from error

    def is_link(self, volume: Volume, path: str) -> bool:
        """Whether a link of that name is there, wherever it points.

        Raises:
            OutOfReachError
        """
        try:
            return self.files(volume).is_link(path)
        except FilesUnavailableError as error:
            raise OutOfReachError(error.says) from error

    def programs_apart(self, volume: Volume) -> bool:
        """Whether fstab of a root wants another volume where programs are. Raises
        OutOfReachError.
        """
        table = self.read_text(volume, "etc/fstab")
        rows = (row.split() for row in table.splitlines() if not row.lstrip().startswith("#"))
        return any(row[1:2] == ["/usr"] for row in rows)


def _plain_id(volume: Volume) -> str:
    """Identifiers of a group and its volume as GRUB writes them: hyphens behind the sixth character
    and every fourth from there, the last part of six.
    """
    return "/".join(_hyphened(part) for part in volume.mapped_id.split("/"))


def _hyphened(raw: str) -> str:
    parts, at = [], 0
    for length in _ID_PARTS:
        parts.append(raw[at : at + length])
        at += length
    return "-".join(parts) if len(raw) == sum(_ID_PARTS) else raw


def pseudo_volume(
    number: int, filesystem: FilesystemKind, label: str, *, efi: bool = False
) -> Volume:
    """A volume that no table lists: a folder of a mounted tree, or a memory disk."""
    return Volume(
        number=number,
        start=Lba(0),
        sectors=SectorCount(0),
        offset=ByteOffset(0),
        bytes=0,
        type=filesystem.value,
        entry_offset=ByteOffset(0),
        active=False,
        extended=False,
        filesystem=filesystem,
        label=label,
        boot=BootSector(ByteOffset(0), b"", True),
        efi=efi,
    )


# The boot environment of a mounted tree: one volume for the tree, and one for the system partition
# that is mounted in it.


_ESP_PLACES = ("boot/efi", "efi", "boot", "")
"""Where the EFI system partition is mounted; or the folder is one itself."""
_ESP_DEVICE = "efi"


class TreeEnvironment(BootEnvironment):
    """See `BootEnvironment`. Identifiers of volumes are not known here, so every name that is asked
    for is taken to be there.

    Raises:
        InputError: nothing in the folder looks like an installed system or a system partition.
    """

    knows_names = False

    def __init__(self, tree: MountedTree) -> None:
        super().__init__()
        self.tree = tree
        top = open_tree(tree)
        self._files[1, ""] = top
        self._volumes = [pseudo_volume(1, FilesystemKind.FOLDER, "/")]
        try:
            esp = next((folder for folder in _ESP_PLACES if _has_efi(top, folder)), None)
            if esp is not None:
                self._volumes.append(pseudo_volume(2, FilesystemKind.FOLDER, f"/{esp}", efi=True))
                self._files[2, ""] = open_tree(tree, esp, caseless=True)
            systems = systems_on(top, 1).systems
        except FilesUnavailableError as error:
            raise InputError(error.says, error.hint) from error
        if esp is None and not any(system.family == "linux" for system in systems):
            raise InputError(
                f"{tree.path} holds neither an installed Linux system nor a system partition.",
                "Name the folder where the root volume is mounted.",
            )
        self._systems = systems

    @property
    def volumes(self) -> tuple[Volume, ...]:
        """See `BootEnvironment.volumes`."""
        return tuple(self._volumes)

    @property
    def esp(self) -> Volume | None:
        """The EFI system partition mounted in the tree."""
        return self._volumes[1] if len(self._volumes) > 1 else None

    def path_in_tree(self, volume: Volume, path: str) -> str:
        """A path on a volume as a path in the tree."""
        return f"{volume.label.rstrip('/')}/{path.lstrip('/')}"

    def device(self, name: str) -> Volume | None:
        """The ESP by the name that `device_of` gives it; every other name means the tree."""
        if name.strip("()") == _ESP_DEVICE:
            return self.esp
        if self._memory_disk is not None and name.strip("()") == self.device_of(self._memory_disk):
            return self._memory_disk
        return self._volumes[0]

    def device_of(self, volume: Volume) -> str:
        """See `BootEnvironment.device_of`."""
        if volume is self._memory_disk:
            return super().device_of(volume)
        return _ESP_DEVICE if volume.efi else "hd0,1"

    def find(self, volume: Volume, path: str) -> FileFound | None:
        """See `BootEnvironment.find`; a boot volume of its own is mounted below the root."""
        found = super().find(volume, path)
        if found is not None or volume is not self._volumes[0]:
            return found
        return super().find(volume, f"boot/{path}")

    def contents(self, volume: Volume) -> Contents:
        """What is known of a volume: its systems."""
        systems = self._systems if volume.number == 1 else ()
        role = "system-partition" if volume.efi else "system" if systems else "data"
        return Contents(volume=volume, info=VolumeInfo(), role=role, systems=systems)

    def named(self, kind: str, value: str) -> list[Volume]:
        """See above: whatever the name, the root is taken to bear it."""
        return [self._volumes[0]] if kind and value else []

    def lost_volume(self, value: str) -> Volume | None:  # noqa: ARG002
        """None: superblocks are not seen here."""
        return None

    def unknown(self) -> list[Volume]:
        """None: what is not mounted cannot be counted."""
        return []

    def free_space(self, volume: Volume) -> FreeSpace | None:
        """See `BootEnvironment.free_space`; None where the folder is no mounted volume."""
        room = self.tree.room() if volume is self._volumes[0] else None
        return FreeSpace(bytes=room[0], inodes=room[1]) if room is not None else None

    def fats_can_be_mended(self, volume: Volume) -> bool:  # noqa: ARG002
        """No: the running system reads the FATs here."""
        return False

    def _open(self, volume: Volume) -> Files:
        return self._files[volume.number, volume.top]


def _has_efi(top: Files, folder: str) -> bool:
    home = top.find(folder)
    if home is None or not home.is_folder:
        return False
    inside = (file for file in top.listing(home.path) if file.is_folder)
    return any(file.path.rpartition("/")[2].upper() == "EFI" for file in inside)


# The boot environment of a disk.


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
            at, length = volume.offset + btrfs.SUPERBLOCK_AT, btrfs.SUPERBLOCK_BYTES
        head = self.disk.source.read(at, length)
        if volume.filesystem is FilesystemKind.XFS and len(head) == xfs.SIZE:
            free = xfs.free_bytes(xfs.SUPERBLOCK.read(head, 0))
        elif volume.filesystem is FilesystemKind.BTRFS:
            block = btrfs.read_superblock(head.data)
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
