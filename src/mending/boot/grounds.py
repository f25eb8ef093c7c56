"""The volumes of a disk as a boot manager sees them: by its own names for devices, by identifier, label or file."""

import re

from mending.disk import (
    Contents,
    Disk,
    FileFound,
    Files,
    FilesUnavailableError,
    Volume,
    contents_of,
    first_superblock_copy,
    open_files,
)
from mending.formats import ext
from mending.model.limits import FILE_BYTES

_DEVICE = re.compile(r"(?:hd0)?,?(?:(?:msdos|gpt)?(\d+))?(?:,.*)?")
_ELSEWHERE = re.compile(r"(hd[1-9]|cd|fd|lvm/|md/|ieee|crypto|memdisk|proc|tftp|http|loop)")


class ElsewhereError(Exception):
    """A device that is not a volume of this disk, or whose files cannot be read: nothing can be said about it."""


class Grounds:
    """Volumes and their files, each opened once.

    Attributes:
        knows_names: whether the identifiers and labels of all volumes are known.
    """

    knows_names = True

    def __init__(self, disk: Disk) -> None:
        self.disk = disk
        self._files: dict[int, Files] = {}
        self._contents: dict[int, Contents] = {}

    @property
    def volumes(self) -> tuple[Volume, ...]:
        """All volumes, in the order of the table."""
        return self.disk.volumes

    def device(self, name: str) -> Volume | None:
        """The volume that GRUB calls `hd0,msdos1`, `hd0,gpt2` or `,2`; None where there is none of that number.

        Raises:
            ElsewhereError: it is on another disk, or of another kind.
        """
        inside = name.strip("()")
        match = _DEVICE.fullmatch(inside)
        if _ELSEWHERE.match(inside) or match is None or match.group(1) is None:
            raise ElsewhereError(f"{name or 'the device'} is not a volume of this disk")
        return self.numbered(int(match.group(1)))

    def device_of(self, volume: Volume) -> str:
        """What GRUB calls a volume."""
        return f"hd0,{volume.number}"

    def numbered(self, number: int) -> Volume | None:
        """The volume with this number."""
        return next((one for one in self.volumes if one.number == number and not one.extended), None)

    def find(self, volume: Volume, path: str) -> FileFound | None:
        """A file. Raises ElsewhereError where files of the volume cannot be read."""
        try:
            return self.files(volume).find(path)
        except FilesUnavailableError as error:
            raise ElsewhereError(error.says) from error

    def read(self, volume: Volume, path: str, limit: int = FILE_BYTES) -> bytes:
        """The content of a file, at most `limit` bytes, empty where there is none. Raises ElsewhereError."""
        try:
            found = self.files(volume).find(path)
            return self.files(volume).read(found, limit) if found is not None else b""
        except FilesUnavailableError as error:
            raise ElsewhereError(error.says) from error

    def programs_apart(self, volume: Volume) -> bool:
        """Whether the mount table of a root wants another volume where programs are. Raises ElsewhereError."""
        table = self.read(volume, "etc/fstab").decode("utf-8", errors="replace")
        rows = (row.split() for row in table.splitlines() if not row.lstrip().startswith("#"))
        return any(row[1:2] == ["/usr"] for row in rows)

    def is_link(self, volume: Volume, path: str) -> bool:
        """Whether a link of that name is there, wherever it points. Raises ElsewhereError."""
        try:
            return self.files(volume).is_link(path)
        except FilesUnavailableError as error:
            raise ElsewhereError(error.says) from error

    def files(self, volume: Volume) -> Files:
        """The opened volume. Raises FilesUnavailableError."""
        if volume.number not in self._files:
            self._files[volume.number] = open_files(self.disk.source, volume)
        return self._files[volume.number]

    def contents(self, volume: Volume) -> Contents:
        """What a volume says of itself, looked at once."""
        if volume.number not in self._contents:
            self._contents[volume.number] = contents_of(self.disk.source, volume)
        return self._contents[volume.number]

    def named(self, kind: str, value: str) -> list[Volume]:
        """Volumes by `uuid`, `label`, `partuuid` or `partlabel`; case does not count but for labels."""
        found = []
        for volume in self.volumes:
            if volume.extended:
                continue
            facts = self.contents(volume).facts
            names = {
                "uuid": facts.identifier.lower(), "label": facts.label or volume.label,
                "partuuid": volume.partition.lower(), "partlabel": volume.name,
            }  # fmt: skip
            wanted = value if kind in {"label", "partlabel"} else value.lower()
            if wanted and _same(kind, names.get(kind, ""), wanted):
                found.append(volume)
        return found

    def lost_volume(self, value: str) -> Volume | None:
        """The volume whose lost first superblock bore a name, told by a copy of it."""
        for volume in self.volumes if self.knows_names else ():
            copy = first_superblock_copy(self.disk.source, volume.offset, volume.bytes) if volume.boot.unread else None
            facts = ext.facts(copy) if copy is not None else None
            if facts is not None and value.lower() in {facts.identifier, facts.label.lower()}:
                return volume
        return None

    def unknown(self) -> list[Volume]:
        """Volumes that may bear any name: encrypted, pools of others, unreadable."""
        kinds = {"encrypted", "luks", "lvm", "unreadable"}
        return [one for one in self.volumes if one.filesystem in kinds or one.boot.unread]


def _same(kind: str, name: str, wanted: str) -> bool:
    """NTFS serial numbers are written without their leading zeros by some."""
    return name == wanted or (kind == "uuid" and bool(name) and name.lstrip("0") == wanted.lstrip("0"))
