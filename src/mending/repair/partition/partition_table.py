"""The repair `partition-table`: a lost table, or lost entries of one, from the volumes that are
found on the disk.

Sources: UEFI Specification 2.10, sections 5.2 and 5.3. Entries that are left and agree with what
lies on the disk are kept. Identifiers that only the lost table held are made anew from where the
volumes lie, the same every time.
"""

import uuid

from mending.boot.bios import could_start
from mending.boot.chain import Trace
from mending.disk.layout import Disk, Scheme, volume_at
from mending.disk.scan import Candidate, search
from mending.formats.partition import gpt, mbr
from mending.model import FindingId, Lba, Patch, RefusedError, RepairId, SectorCount
from mending.repair.base import Proposal, Request, WholeDiskError
from mending.repair.partition.amendment import amend, may_lack_entries
from mending.repair.partition.kept_entries import kept_entries, usable_range, with_new_entries
from mending.repair.partition.new_entries import (
    as_long_as_can_be,
    named,
    span,
    type_byte,
    type_guid,
)
from mending.source import Source

REPAIR = RepairId.PARTITION_TABLE
_SURE = 0.55
"""Below this a volume is not written into a table: one more thing than its own mark has to speak
for it.
"""


def propose(request: Request) -> Proposal:
    """The patches that make a table of what was found, or put single entries of one right.

    Raises:
        RefusedError: a table is there already, nothing sure was found, or what was found does not
            fit a table.
        WholeDiskError: the disk would have to be searched and may not be.
    """
    disk, asked = request.disk, request.calling_for(REPAIR)
    if _only_lacks_signature(disk):
        says = "Writes 55 aa at the end of sector 0; the table in front of it stays as it is."
        signature = mbr.SIGNATURE.to_bytes(2, "little")
        patch = _patch(disk.source, 510, signature, "the signature of sector 0")
        return Proposal(repair=REPAIR, says=says, changes=(patch,), answers=asked)
    lost = request.found(FindingId.BOOT_SIGNATURE_MISSING, FindingId.GPT_BOTH_DAMAGED)
    if not disk.volumes:
        lost = lost or asked  # a table that lists nothing, while volumes lie on the disk
    if not lost and not may_lack_entries(disk):
        raise RefusedError(
            "The partition table is there, and is none that is written here.",
            "Look with mending search.",
        )
    if not request.settings.searching:
        raise WholeDiskError
    found = [
        candidate
        for candidate in search(disk.source, request.progress)
        if candidate.confidence >= _SURE
    ]
    if not found:
        raise RefusedError(
            "No volume was found that could be listed with any confidence.",
            "The disk may be erased.",
        )
    as_gpt = disk.gpt is not None or _wants_guids(request, found)
    found = as_long_as_can_be(disk, found, as_gpt=as_gpt)
    if may_lack_entries(disk):
        says, changed, listed = amend(disk, found)
        unlisted = request.found(FindingId.VOLUME_UNLISTED)
        answered = [
            finding
            for finding in unlisted
            if finding.where.offset in {candidate.offset for candidate in listed}
        ]
        answers = tuple(dict.fromkeys([*asked, *answered]))
    else:
        listed, answers = found, lost
        says = f"Writes a table of what was found: {named(disk, found)}."
        changed = _guid_patches(disk, found) if as_gpt else [_record_patch(disk, found)]
    return Proposal(
        repair=REPAIR,
        says=says,
        changes=tuple(changed),
        answers=answers,
        fault_after=lambda trace: _not_listed(trace, listed, disk.source.bytes_per_sector),
    )


def _only_lacks_signature(disk: Disk) -> bool:
    """Whether the table is sound, and only the two bytes behind it are not there."""
    if disk.mbr is None or disk.scheme is Scheme.GPT:
        return False
    codes = [problem.code for problem in disk.mbr.problems]
    return codes == ["signature-missing"] and bool(disk.mbr.record.entries)


def _not_listed(trace: Trace, found: list[Candidate], bytes_per_sector: int) -> str:
    """Which volume of those that were found the new table does not list; empty where it lists
    all.
    """
    listed = {(volume.start, volume.filesystem) for volume in trace.volumes}
    for candidate in found:
        start = candidate.offset // bytes_per_sector
        if (start, candidate.filesystem) not in listed:
            return f"the volume with {candidate.filesystem} at sector {start} would not be listed."
    return ""


def _wants_guids(request: Request, found: list[Candidate]) -> bool:
    """Whether the lost table was a GPT: a trace of one is left, or the disk is made for UEFI and
    holds no boot code.
    """
    disk = request.disk
    if disk.scheme is Scheme.GPT or request.settings.firmware == "uefi":
        return True
    blank = disk.mbr is not None and disk.mbr.record.code_blank
    return (
        blank
        and request.settings.firmware is None
        and any(type_guid(disk, candidate) == gpt.EFI_SYSTEM for candidate in found)
    )


def _record_patch(disk: Disk, found: list[Candidate]) -> Patch:
    if len(found) > 4:
        raise RefusedError(
            f"{len(found)} volumes were found, and this table holds four.", "Which ones are wanted?"
        )
    starting = [
        number
        for number, candidate in enumerate(found, 1)
        if could_start(disk.source, volume_at(disk.source, *span(disk, candidate)))
    ]
    return _record(disk, found, starting[0] if len(starting) == 1 else None)


def _record(disk: Disk, found: list[Candidate], active: int | None) -> Patch:
    entries = b"".join(
        mbr.encode_entry(
            mbr.ACTIVE if number == active else 0, type_byte(candidate), *span(disk, candidate)
        )
        for number, candidate in enumerate(found, 1)
    )
    after = entries.ljust(64, b"\0") + mbr.SIGNATURE.to_bytes(2, "little")
    return _patch(disk.source, mbr.TABLE_OFFSET, after, "the partition table and its signature")


def _guid_patches(disk: Disk, found: list[Candidate]) -> list[Patch]:
    source, size = disk.source, disk.source.bytes_per_sector
    guid, spans = _disk_guid(disk, found), [span(disk, candidate) for candidate in found]
    made = [
        gpt.encode_entry(
            type_guid(disk, candidate),
            uuid.uuid5(guid, str(start)),
            start,
            start + count - 1,
            candidate.label,
        )
        for candidate, (start, count) in zip(found, spans, strict=True)
    ]
    new = list(zip(spans, made, strict=True))
    entries = with_new_entries(kept_entries(disk, spans), new)
    parts = gpt.fresh_copies(guid, entries, disk.sectors, size, usable_range(disk, spans))
    taken = [(lba, lba + len(data) // size) for _, lba, data in parts]
    if any(start < end and lba < start + count for start, count in spans for lba, end in taken):
        raise RefusedError("A volume that was found reaches into the space of the table itself.")
    length = SectorCount(min(disk.sectors - 1, 0xFFFFFFFF))
    record = mbr.encode_entry(0, mbr.GPT_PROTECTIVE, Lba(1), length).ljust(64, b"\0") + b"\x55\xaa"
    mbr_sound = disk.mbr is not None and disk.mbr.record.protective and not disk.mbr.problems
    patches = []
    if not mbr_sound:
        patches.append(_patch(source, mbr.TABLE_OFFSET, record, "the protective MBR"))
    patches += [_patch(source, lba * size, data, name) for name, lba, data in parts]
    return [patch for patch in patches if patch.before != patch.after]


def _disk_guid(disk: Disk, found: list[Candidate]) -> uuid.UUID:
    """The one that a damaged header still shows, else one made from where the volumes lie."""
    for copy in (disk.gpt.primary, disk.gpt.backup) if disk.gpt else ():
        if copy.header is not None and any(copy.header.disk_guid):
            return uuid.UUID(bytes_le=copy.header.disk_guid)
    return uuid.uuid5(
        uuid.NAMESPACE_OID, " ".join(f"{candidate.offset}+{candidate.bytes}" for candidate in found)
    )


def _patch(source: Source, offset: int, after: bytes, says: str) -> Patch:
    return Patch(offset, source.read(offset, len(after)).data, after, says)
