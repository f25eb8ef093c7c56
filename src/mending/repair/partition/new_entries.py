"""What a table entry for a found volume says: its extent, its type, and whether it may stand beside
the others.
"""

import uuid

from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import Disk, volume_at
from mending.disk.scan import Candidate, reaching
from mending.formats.partition import gpt
from mending.model import KINDS, Lba, SectorCount


def span(disk: Disk, found: Candidate) -> tuple[Lba, SectorCount]:
    """First sector and length of a found volume, in sectors of the disk."""
    size = disk.source.bytes_per_sector
    return Lba(found.offset // size), SectorCount(-(-found.bytes // size))


def as_long_as_can_be(disk: Disk, found: list[Candidate], *, as_gpt: bool) -> list[Candidate]:
    """Volumes that tell no length as long as the disk has room for.

    Args:
        as_gpt: whether the end of the disk is a GPT's.
    """
    size = disk.source.bytes_per_sector
    room = (1 + -(-gpt.COUNT * gpt.ENTRY_SIZE // size)) * size if as_gpt else 0
    listed = {volume.offset: volume.bytes for volume in disk.volumes if not volume.extended}
    return reaching(found, listed, disk.sectors * size - room)


def type_byte(found: Candidate) -> int:
    """The type byte of an entry in sector 0."""
    return KINDS[found.filesystem].table_type


def type_guid(disk: Disk, found: Candidate) -> uuid.UUID:
    """The type of a GPT entry: an EFI system partition is a FAT volume with an EFI folder; the rest
    goes by family.
    """
    if KINDS[found.filesystem].is_fat and _has_efi_folder(disk, found):
        return gpt.EFI_SYSTEM
    return uuid.UUID(KINDS[found.filesystem].guid_type)


def named(disk: Disk, found: list[Candidate]) -> str:
    """The volumes in words."""
    return ", ".join(
        f"{candidate.filesystem} at sector {candidate.offset // disk.source.bytes_per_sector}"
        for candidate in found
    )


def _has_efi_folder(disk: Disk, found: Candidate) -> bool:
    try:
        folder = open_files(disk.source, volume_at(disk.source, *span(disk, found))).find("EFI")
    except FilesUnavailableError:
        return False
    return folder is not None and folder.is_folder
