"""Writes a fresh GUID partition table. Source: UEFI Specification 2.10, sections 5.2.3 and 5.3."""

import uuid
from collections.abc import Sequence

from mending.formats.partition import gpt, mbr
from mending.model import Lba, SectorCount
from mending.workshop.image import SECTOR, ImageDraft

Partition = tuple[uuid.UUID, int, int, str]
"""Type, first sector, length in sectors, name."""


def put_guid_table(draft: ImageDraft, disk: uuid.UUID, partitions: Sequence[Partition]) -> None:
    """Lay protective MBR, both headers and both arrays into a draft of 512-byte sectors."""
    sectors = draft.size // SECTOR
    entries = b"".join(
        gpt.encode_entry(kind, uuid.uuid5(disk, name), first, first + length - 1, name)
        for kind, first, length, name in partitions
    )
    record = mbr.encode_entry(
        0, mbr.GPT_PROTECTIVE, Lba(1), SectorCount(min(sectors - 1, 0xFFFFFFFF))
    )
    draft.put(0, mbr.MBR.encode(mbr.MbrFields(b"", 0, 0, record, mbr.SIGNATURE)))
    for _, lba, data in gpt.fresh_copies(disk, entries, sectors, SECTOR):
        draft.put(lba * SECTOR, data)
