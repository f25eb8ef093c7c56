"""What checks look at: the volumes of a disk or of a mounted tree, as a boot manager sees them.

A boot manager names volumes in its own ways: by number (`hd0,msdos1`), by identifier or label, by a
file that is on them. `BootEnvironment` answers in these terms, opens each volume once, and is the
same for a disk and for a tree; `open_environment` makes the one that fits a target.
"""

import re
from abc import ABC, abstractmethod
from collections.abc import Sequence

import msgspec

from mending.boot.chain.checks import OutOfReachError
from mending.disk.files import FileFound, Files, FilesUnavailableError, open_memory_disk
from mending.disk.layout import Array, Disk
from mending.disk.system import Contents
from mending.disk.volume import BootSector, Volume
from mending.model import ByteOffset, Change, FilesystemKind, Lba, SectorCount, Where
from mending.model.limits import FILE_BYTES

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
