"""What a table entry for a found volume says: its extent, its type, and whether it may stand beside the others."""

import uuid

from mending.disk import Disk, FilesUnavailableError, Found, open_files, volume_at
from mending.formats import gpt
from mending.model import Lba, SectorCount

_TYPES = {
    "ntfs": 0x07, "exfat": 0x07, "fat32": 0x0C, "fat16": 0x0E, "fat12": 0x01, "swap": 0x82, "lvm": 0x8E, "hfs+": 0xAF,
    "apfs": 0xAF,
}  # fmt: skip
_LINUX = 0x83
_GUID_DATA = uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
_GUID_LINUX = uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4")
_GUIDS = {
    "swap": uuid.UUID("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"), "lvm": uuid.UUID("e6d6d379-f507-44c2-a23c-238f2a3df928"),
    "hfs+": uuid.UUID("48465300-0000-11aa-aa11-00306543ecac"),
    "apfs": uuid.UUID("7c3457ef-0000-11aa-aa11-00306543ecac"),
    **dict.fromkeys(("ntfs", "exfat", "fat12", "fat16", "fat32"), _GUID_DATA),
}  # fmt: skip


def span(disk: Disk, found: Found) -> tuple[Lba, SectorCount]:
    """First sector and length of a found volume, in sectors of the disk."""
    size = disk.source.bytes_per_sector
    return Lba(found.offset // size), SectorCount(-(-found.bytes // size))


def type_byte(found: Found) -> int:
    """The type byte of an entry in sector 0."""
    return _TYPES.get(found.filesystem, _LINUX)


def type_guid(disk: Disk, found: Found) -> uuid.UUID:
    """The type of a GPT entry: an EFI system partition is a FAT volume with an EFI folder; the rest goes by family."""
    if found.filesystem.startswith("fat") and _has_efi_folder(disk, found):
        return gpt.EFI_SYSTEM
    return _GUIDS.get(found.filesystem, _GUID_LINUX)


def named(disk: Disk, found: list[Found]) -> str:
    """The volumes in words."""
    return ", ".join(f"{one.filesystem} at sector {one.offset // disk.source.bytes_per_sector}" for one in found)


def _has_efi_folder(disk: Disk, found: Found) -> bool:
    try:
        folder = open_files(disk.source, volume_at(disk.source, *span(disk, found))).find("EFI")
    except FilesUnavailableError:
        return False
    return folder is not None and folder.is_folder
