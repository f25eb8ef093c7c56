"""The repair `partition-table`: a lost table, or lost entries of one, from the volumes that are found on the disk.

Sources: UEFI Specification 2.10, sections 5.2 and 5.3. Identifiers of partitions that only the lost table held are made
anew from where the volumes lie, the same every time.
"""

import uuid

from mending.boot import startable
from mending.disk import Disk, Found, Scheme, search, survey
from mending.formats import gpt, mbr
from mending.model import Lba, Patch, RefusedError, SectorCount
from mending.repair.entries import named, span, type_byte, type_guid
from mending.repair.proposal import Proposal, Request
from mending.repair.table_gaps import amend, may_lack_entries
from mending.source import PatchedSource, Source

REPAIR = "partition-table"
_ANSWERS = ("boot-signature-missing", "gpt-both-damaged")
_SURE = 0.55
"""Below this a volume is not written into a table: one more thing than its own mark has to speak for it."""


def propose(request: Request) -> Proposal:
    """The patches that make a table of what was found.

    Raises:
        RefusedError: a table is there already, nothing sure was found, or what was found does not fit a table.
    """
    disk, trace = request.disk, request.trace
    answers = tuple(one for one in _ANSWERS if any(finding.id == one for finding in trace.findings))
    if not answers and not may_lack_entries(disk):
        raise RefusedError(
            "The partition table is there, and is none that is written here.", "Look with mending search."
        )
    found = [one for one in search(disk.source, request.progress) if one.sureness >= _SURE]
    if not found:
        raise RefusedError("No volume was found that could be listed with any sureness.", "The disk may be erased.")
    if may_lack_entries(disk):
        says, changed = amend(disk, found)
        return Proposal(REPAIR, says, tuple(changed), ())
    patches = _guid_patches(disk, found) if _wants_guids(request, found) else [_record_patch(disk, found)]
    says = f"Writes a table of {len(found)} volumes that were found: {named(disk, found)}."
    return Proposal(REPAIR, says, tuple(patches), answers)


def _wants_guids(request: Request, found: list[Found]) -> bool:
    """Whether the lost table was a GPT: a trace of one is left, or the disk is made for UEFI and holds no boot code."""
    disk = request.disk
    if disk.scheme is Scheme.GPT or request.leave.firmware == "uefi":
        return True
    blank = disk.boot_record is not None and disk.boot_record.record.code_blank
    return blank and request.leave.firmware is None and any(type_guid(disk, one) == gpt.EFI_SYSTEM for one in found)


def _record_patch(disk: Disk, found: list[Found]) -> Patch:
    if len(found) > 4:
        raise RefusedError(f"{len(found)} volumes were found, and this table holds four.", "Which ones are wanted?")
    plain = _record(disk, found, None)
    listed = survey(PatchedSource(disk.source, [plain]))
    could_start = startable(listed)
    return _record(disk, found, could_start[0].number) if len(could_start) == 1 else plain


def _record(disk: Disk, found: list[Found], active: int | None) -> Patch:
    entries = b"".join(
        mbr.encode_entry(mbr.ACTIVE if number == active else 0, type_byte(one), *span(disk, one))
        for number, one in enumerate(found, 1)
    )
    after = entries.ljust(64, b"\0") + mbr.SIGNATURE.to_bytes(2, "little")
    return _patch(disk.source, mbr.TABLE_OFFSET, after, "the partition table and its signature")


def _guid_patches(disk: Disk, found: list[Found]) -> list[Patch]:
    source, size = disk.source, disk.source.bytes_per_sector
    guid, spans = _disk_guid(disk, found), [span(disk, one) for one in found]
    entries = b"".join(
        gpt.encode_entry(type_guid(disk, one), uuid.uuid5(guid, str(start)), start, start + count - 1, one.label)
        for one, (start, count) in zip(found, spans, strict=True)
    )
    parts = gpt.fresh_copies(guid, entries, disk.sectors, size)
    taken = [(lba, lba + len(data) // size) for _, lba, data in parts]
    if any(start < end and lba < start + count for start, count in spans for lba, end in taken):
        raise RefusedError("A volume that was found reaches into the space of the table itself.")
    length = SectorCount(min(disk.sectors - 1, 0xFFFFFFFF))
    record = mbr.encode_entry(0, mbr.GPT_PROTECTIVE, Lba(1), length).ljust(64, b"\0") + b"\x55\xaa"
    patches = [_patch(source, mbr.TABLE_OFFSET, record, "the protective record")]
    patches += [_patch(source, lba * size, data, name) for name, lba, data in parts]
    return [patch for patch in patches if patch.before != patch.after]


def _disk_guid(disk: Disk, found: list[Found]) -> uuid.UUID:
    """The one that a damaged header still shows, else one made from where the volumes lie."""
    for copy in (disk.gpt.primary, disk.gpt.backup) if disk.gpt else ():
        if copy.header is not None and any(copy.header.disk_guid):
            return uuid.UUID(bytes_le=copy.header.disk_guid)
    return uuid.uuid5(uuid.NAMESPACE_OID, " ".join(f"{one.offset}+{one.bytes}" for one in found))


def _patch(source: Source, offset: int, after: bytes, says: str) -> Patch:
    return Patch(offset, source.read(offset, len(after)).data, after, says)
