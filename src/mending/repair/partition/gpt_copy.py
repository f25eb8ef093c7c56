"""The repair `gpt-copy`: a damaged GPT copy from the good one, and the protective MBR in front of
both.

Source: UEFI Specification 2.10, sections 5.2.3 (protective MBR) and 5.3.2 (the two headers differ
in `my_lba`, `alternate_lba` and `entries_lba` alone).
"""

import msgspec

from mending.disk.layout import Disk, Gpt, GptCopy
from mending.formats.partition import gpt, mbr
from mending.model import FindingId, Lba, Patch, RefusedError, RepairId, SectorCount
from mending.repair.base import Proposal, Request
from mending.source import Source

REPAIR = RepairId.GPT_COPY
_ANSWERS = (
    FindingId.GPT_PRIMARY_DAMAGED,
    FindingId.GPT_BACKUP_DAMAGED,
    FindingId.PROTECTIVE_RECORD_MISSING,
)
_PRIMARY_ENTRIES = Lba(2)


def propose(request: Request) -> Proposal:
    """The patches for whichever of the three parts is damaged.

    Raises:
        RefusedError: no GPT, both copies damaged, both sound but different, or the disk ends too
            early.
    """
    disk = request.disk
    table = disk.gpt
    if table is None or disk.mbr is None:
        raise RefusedError("This disk carries no GPT.", "Look at the table in sector 0 instead.")
    good = _good_copy(disk, table)
    patches = [*_record_patches(disk), *_copy_patches(disk.source, table, good)]
    if not patches:
        raise RefusedError(
            "Both copies of the GPT and the protective MBR are sound.", "There is nothing to write."
        )
    parts = ", ".join(patch.says for patch in patches)
    says = f"Writes {parts}, from the copy in sector {good.lba}."
    return Proposal(
        repair=REPAIR,
        says=says,
        changes=tuple(patches),
        answers=request.found(*_ANSWERS),
    )


def _good_copy(disk: Disk, table: Gpt) -> GptCopy:
    good = table.believed
    if good is None or good.header is None:
        raise RefusedError(
            "Both copies of the GPT are damaged.", "The volumes have to be searched for instead."
        )
    if table.primary.sound and table.backup.sound and not table.agree:
        raise RefusedError(
            "Both copies of the GPT are sound and differ.", "Find out which one is right first."
        )
    last = max(good.header.alternate_lba, good.header.my_lba)
    if last >= disk.sectors:
        raise RefusedError(
            f"The disk ends before sector {last}, where its GPT keeps the other copy.",
            "An image that was cut short has to be copied again.",
        )
    return good


def _record_patches(disk: Disk) -> list[Patch]:
    """Table and signature of sector 0; boot code and disk signature in front of them stay."""
    reading = disk.mbr
    if reading is None or (reading.record.protective and not reading.has("signature-missing")):
        return []
    if reading.record.entries:
        raise RefusedError(
            "Sector 0 lists volumes of its own, which a protective MBR would take away."
        )
    length = SectorCount(min(disk.sectors - 1, 0xFFFFFFFF))
    table = mbr.encode_entry(0, mbr.GPT_PROTECTIVE, Lba(1), length).ljust(64, b"\0") + b"\x55\xaa"
    before = disk.source.read(mbr.TABLE_OFFSET, len(table)).data
    return [Patch(mbr.TABLE_OFFSET, before, table, "the protective MBR")]


def _copy_patches(source: Source, table: Gpt, good: GptCopy) -> list[Patch]:
    if table.primary.sound and table.backup.sound:
        return []
    header = good.header
    assert header is not None
    size = source.bytes_per_sector
    array_sectors = -(-len(good.entry_bytes) // size)
    primary = not table.primary.sound
    if primary:
        here, other, array = Lba(1), good.lba, _PRIMARY_ENTRIES
        room = header.first_usable_lba >= array + array_sectors
    else:
        here, other = Lba(header.alternate_lba), Lba(1)
        array = Lba(here - array_sectors)
        room = array > header.last_usable_lba_inclusive
    if not room:
        raise RefusedError("The array of entries would reach into the space for partitions.")
    placed = msgspec.structs.replace(header, my_lba=here, alternate_lba=other, entries_lba=array)
    name = "primary" if primary else "backup"
    patches = [
        _patch(
            source,
            array,
            good.entry_bytes.ljust(array_sectors * size, b"\0"),
            f"the {name} entries",
        ),
        _patch(source, here, gpt.sealed(placed).ljust(size, b"\0"), f"the {name} header"),
    ]
    return [patch for patch in patches if patch.before != patch.after]


def _patch(source: Source, lba: Lba, after: bytes, says: str) -> Patch:
    offset = lba * source.bytes_per_sector
    return Patch(offset, source.read(offset, len(after)).data, after, says)
