"""Writes a fresh GUID partition table. Source: UEFI Specification 2.10, sections 5.2.3 and 5.3."""

import uuid
import zlib
from collections.abc import Sequence

from mending.formats import gpt, mbr
from mending.model import Lba, SectorCount
from mending.workshop.image import SECTOR, ImageDraft

COUNT = 128
ENTRY_SECTORS = COUNT * gpt.ENTRY_SIZE // SECTOR

Partition = tuple[uuid.UUID, int, int, str]
"""Type, first sector, length in sectors, name."""


def put_guid_table(draft: ImageDraft, disk: uuid.UUID, partitions: Sequence[Partition]) -> None:
    """Lay protective record, both headers and both arrays into a draft of 512-byte sectors."""
    sectors = draft.size // SECTOR
    entries = b"".join(
        gpt.encode_entry(kind, uuid.uuid5(disk, name), first, first + length - 1, name)
        for kind, first, length, name in partitions
    ).ljust(COUNT * gpt.ENTRY_SIZE, b"\0")
    record = mbr.encode_entry(0, mbr.GPT_PROTECTIVE, Lba(1), SectorCount(min(sectors - 1, 0xFFFFFFFF)))
    draft.put(0, mbr.BOOT_RECORD.encode(mbr.BootRecordFields(b"", 0, 0, record, mbr.SIGNATURE)))
    last = sectors - 1
    for here, other, array in ((1, last, 2), (last, 1, last - ENTRY_SECTORS)):
        header = gpt.Header(
            signature=gpt.SIGNATURE, revision=gpt.REVISION, header_size=gpt.HEADER_SIZE, header_crc=0, reserved=0,
            my_lba=here, alternate_lba=other, first_usable_lba=2 + ENTRY_SECTORS,
            last_usable_lba_inclusive=last - ENTRY_SECTORS - 1, disk_guid=disk.bytes_le, entries_lba=array,
            entry_count=COUNT, entry_size=gpt.ENTRY_SIZE, entries_crc=zlib.crc32(entries),
        )  # fmt: skip
        draft.put(here * SECTOR, gpt.sealed(header))
        draft.put(array * SECTOR, entries)
