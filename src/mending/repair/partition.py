"""The repair `partition-table`: a lost table, or lost entries of one, from the volumes that are
found on the disk.

Sources: UEFI Specification 2.10, sections 5.2 and 5.3. Entries that are left and agree with what
lies on the disk are kept. Identifiers that only the lost table held are made anew from where the
volumes lie, the same every time.
"""

import uuid
import zlib
from collections.abc import Sequence

import msgspec

from mending.boot.bios import could_start, startable
from mending.boot.chain import Trace
from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import Disk, Gpt, GptCopy, Scheme, volume_at
from mending.disk.scan import Candidate, reaching, search
from mending.disk.volume import Volume
from mending.formats import gpt, mbr
from mending.model import (
    KINDS,
    FilesystemKind,
    FindingId,
    InputError,
    Lba,
    Patch,
    RefusedError,
    RepairId,
    SectorCount,
    Window,
)
from mending.repair.base import Proposal, Request, WholeDiskError
from mending.source import Source

# The repair `gpt-copy`: a damaged GPT copy from the good one, and the protective MBR in front of
# both.
#
# Source: UEFI Specification 2.10, sections 5.2.3 (protective MBR) and 5.3.2 (the two headers differ
# in `my_lba`, `alternate_lba` and `entries_lba` alone).


GPT_COPY = RepairId.GPT_COPY
_ANSWERS = (
    FindingId.GPT_PRIMARY_DAMAGED,
    FindingId.GPT_BACKUP_DAMAGED,
    FindingId.PROTECTIVE_RECORD_MISSING,
)
_PRIMARY_ENTRIES = Lba(2)


def propose_gpt_copy(request: Request) -> Proposal:
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
        repair=GPT_COPY,
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


# The repair `active-flag`: the flag on the one volume that can be started, and on no other.


ACTIVE_FLAG = RepairId.ACTIVE_FLAG
_PRIMARY = range(1, 5)


def propose_active_flag(request: Request) -> Proposal:
    """One patch of one byte for every flag that changes.

    Raises:
        RefusedError: no table of this kind, or not exactly one volume that could be started.
    """
    disk = request.disk
    if disk.scheme is not Scheme.MBR:
        raise RefusedError(
            "This disk has no table with active flags.", "A GPT disk is started in another way."
        )
    right = _right_one(disk)
    listed = [volume for volume in disk.volumes if volume.number in _PRIMARY]
    patches = tuple(
        patch for volume in listed if (patch := _active_flag_patch(disk, volume, volume is right))
    )
    if not patches:
        raise RefusedError(
            "The active flag is on the one volume that can be started.",
            "There is nothing to write.",
        )
    says = (
        f"Marks entry {right.number} active, the only volume that boot code could start, and no"
        " other."
    )
    return Proposal(
        repair=ACTIVE_FLAG,
        says=says,
        changes=patches,
        answers=request.calling_for(ACTIVE_FLAG),
    )


def _right_one(disk: Disk) -> Volume:
    found = startable(disk)
    if len(found) == 1:
        return found[0]
    if not found:
        raise RefusedError(
            "No volume holds a boot sector that could be started.", "Mend its boot sector first."
        )
    numbers = " and ".join(str(volume.number) for volume in found)
    raise RefusedError(
        f"Volumes {numbers} could both be started; which one is right cannot be told.",
        "Ask the user.",
    )


def _active_flag_patch(disk: Disk, volume: Volume, active: bool) -> Patch | None:
    before = disk.source.read(volume.entry_offset, 1).data
    after = bytes([mbr.ACTIVE if active else 0])
    what = f"flag of entry {volume.number}: {'active' if active else 'not active'}"
    return Patch(volume.entry_offset, before, after, what) if before != after else None


# What a table entry for a found volume says: its extent, its type, and whether it may stand beside
# the others.


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


# Entries of a table that is there put right: lost ones added, hollow ones moved, short ones made
# long enough.
#
# An entry is hollow when nothing that we know begins where it starts. It is moved only when a
# volume that was found, and that no other entry lists, shares sectors with it. No entry is
# shortened, and none may share sectors with another.


_RAW = {gpt.BIOS_BOOT, gpt.RESERVED}
"""Entries that hold no file system on purpose."""


class EntryChange(msgspec.Struct, frozen=True):
    """One entry as it shall be. `number` is its place in the table; `moved` is the entry that it
    replaces.
    """

    number: int
    found: Candidate
    start: Lba
    sectors: SectorCount
    moved: Volume | None


def amend(disk: Disk, found: list[Candidate]) -> tuple[str, list[Patch], list[Candidate]]:
    """What is changed, in words, the patches, and the volumes whose entries change.

    Raises:
        RefusedError: every volume that was found is listed as it should be, or the change does not
            fit the table.
    """
    changes = _changes(disk, found)
    if not changes:
        raise RefusedError(
            "The table lists every volume that was found, as long as it is.",
            "There is nothing to write.",
        )
    added = [change.found for change in changes if change.moved is None]
    moved = [change.found for change in changes if change.moved is not None]
    parts = [f"adds entries for {named(disk, added)}"] if added else []
    parts += [f"puts right the entries of {named(disk, moved)}"] if moved else []
    says = f"{' and '.join(parts).capitalize()}; every other entry stays."
    listed = [change.found for change in changes]
    if disk.gpt is not None:
        return says, _guid_patches(disk, changes), listed
    return says, _amendment_record_patches(disk, changes), listed


def _changes(disk: Disk, found: list[Candidate]) -> list[EntryChange]:
    changes: list[EntryChange] = []
    for candidate in found:
        start, sectors = span(disk, candidate)
        at_start = next((volume for volume in disk.volumes if volume.start == start), None)
        if at_start is not None and (
            at_start.sectors >= sectors or at_start.number not in _listable(disk)
        ):
            continue
        settled = {change.number for change in changes}  # entries that are moved away from here
        others = [
            volume
            for volume in disk.volumes
            if volume is not at_start and volume.number not in settled
        ]
        in_the_way = [volume for volume in others if _shares(volume, start, sectors)]
        hollow = [volume for volume in in_the_way if _hollow(volume)]
        if len(hollow) != len(in_the_way) or len(hollow) > 1 or (hollow and at_start is not None):
            continue  # inside or across a volume that is there: a leftover, or not to be listed
        moved = at_start or (hollow[0] if hollow else None)
        number = moved.number if moved is not None else _free_number(disk, changes)
        changes.append(EntryChange(number, candidate, start, sectors, moved))
    return changes


def _listable(disk: Disk) -> range:
    return range(1, gpt.COUNT + 1) if disk.gpt is not None else _PRIMARY


def _shares(volume: Volume, start: Lba, sectors: SectorCount) -> bool:
    return volume.start < start + sectors and start < volume.start + volume.sectors


def _hollow(volume: Volume) -> bool:
    nothing = volume.filesystem in {FilesystemKind.UNKNOWN, FilesystemKind.BLANK}
    meant_for_files = volume.type not in _RAW and not volume.extended
    return nothing and meant_for_files and volume.number in range(1, gpt.COUNT + 1)


def _free_number(disk: Disk, changes: list[EntryChange]) -> int:
    taken = {volume.number for volume in disk.volumes} | {change.number for change in changes}
    number = next((value for value in _listable(disk) if value not in taken), None)
    if number is None:
        raise RefusedError(
            "The table has no free entry for another volume.",
            "Which ones are wanted? mending search tells.",
        )
    return number


def _amendment_record_patches(disk: Disk, changes: list[EntryChange]) -> list[Patch]:
    if any(change.number not in _PRIMARY for change in changes):
        raise RefusedError(
            "An entry in the EBR chain is wrong, and only the four in sector 0 are written.",
            "Copy the files off the volume that mending search shows.",
        )
    starting = _number_that_starts(disk, changes)
    return [
        _record_patch(disk, change, active=_stays_active(change) or change.number == starting)
        for change in changes
    ]


def _stays_active(change: EntryChange) -> bool:
    return change.moved is not None and change.moved.active


def _number_that_starts(disk: Disk, changes: list[EntryChange]) -> int | None:
    """The entry that is to be marked active: the one volume that boot code could start, where no
    entry will be active otherwise, and where its entry is written at all.
    """
    changed = {change.number for change in changes}
    kept = [volume for volume in disk.volumes if volume.number not in changed]
    if any(volume.active for volume in kept) or any(map(_stays_active, changes)):
        return None
    starting = [volume.number for volume in kept if could_start(disk.source, volume)]
    for change in changes:
        volume = volume_at(disk.source, change.start, change.sectors)
        if could_start(disk.source, volume):
            starting.append(change.number)
    return starting[0] if len(starting) == 1 else None


def _record_patch(disk: Disk, change: EntryChange, *, active: bool) -> Patch:
    offset = mbr.TABLE_OFFSET + 16 * (change.number - 1)
    moved = change.moved
    kind = disk.source.read(offset + 4, 1).data[0] if moved is not None else type_byte(change.found)
    after = mbr.encode_entry(mbr.ACTIVE if active else 0, kind, change.start, change.sectors)
    return Patch(
        offset,
        disk.source.read(offset, 16).data,
        after,
        f"entry {change.number} of the table in sector 0",
    )


def _guid_patches(disk: Disk, changes: list[EntryChange]) -> list[Patch]:
    table, source, size = disk.gpt, disk.source, disk.source.bytes_per_sector
    if table is None or not (table.primary.sound and table.backup.sound and table.agree):
        raise RefusedError(
            "The two copies of the GPT do not agree yet.", "Mend that first: gpt-copy."
        )
    array = bytearray(table.primary.entry_bytes)
    header = table.primary.header
    assert header is not None and table.backup.header is not None
    disk_guid = uuid.UUID(bytes_le=header.disk_guid)
    for change in changes:
        if (
            not header.first_usable_lba
            <= change.start
            <= change.start + change.sectors - 1
            <= header.last_usable_lba_inclusive
        ):
            raise RefusedError(
                "A volume that was found reaches into the space of the table itself."
            )
        at = (change.number - 1) * header.entry_size
        array[at : at + gpt.ENTRY_SIZE] = _guid_entry(
            disk, change, bytes(array[at : at + gpt.ENTRY_SIZE]), disk_guid
        )
    patches = []
    for name, head in (("primary", header), ("backup", table.backup.header)):
        for what, lba, data in gpt.resealed(head, bytes(array), size):
            before = source.read(lba * size, len(data)).data
            patches.append(Patch(lba * size, before, data, f"the {name} {what}"))
    return patches


def _guid_entry(disk: Disk, change: EntryChange, before: bytes, disk_guid: uuid.UUID) -> bytes:
    last = change.start + change.sectors - 1
    if change.moved is not None:
        return gpt.ENTRY.patch(before, first_lba=change.start, last_lba_inclusive=last)
    guid = uuid.uuid5(disk_guid, str(change.start))
    return gpt.encode_entry(
        type_guid(disk, change.found), guid, change.start, last, change.found.label
    )


def may_lack_entries(disk: Disk) -> bool:
    """Whether there is a table that lists something, so that only single entries can be lost."""
    return bool(disk.volumes) and disk.scheme is not Scheme.NONE


# What is left of a GPT whose headers are both damaged: entries that agree with what lies on the
# disk are kept to the last bit, so that nothing that names a partition has to change.
#
# Both arrays of entries are looked at where a table of the usual size keeps them. An entry agrees
# when a volume that was found begins where it does and ends within it. One behind which nothing was
# found is kept, too, as long as it is in nobody's way: it may hold no file system on purpose.


_ARRAY = gpt.COUNT * gpt.ENTRY_SIZE
Span = tuple[int, int]
"""First sector and number of sectors of a volume that was found."""


def kept_entries(disk: Disk, spans: Sequence[Span]) -> bytes:
    """The array of the copy of which most entries agree, without those that cannot be; empty where
    none agrees.
    """
    size = disk.source.bytes_per_sector
    room = -(-_ARRAY // size)
    best, most = b"", 0
    for lba in (2, disk.sectors - 1 - room):
        array, agreeing = _sifted(disk, lba * size, spans)
        if agreeing > most:
            best, most = array, agreeing
    return best


def usable_range(disk: Disk, spans: Sequence[Span]) -> tuple[int, int] | None:
    """First and last sector for partitions, as a damaged header still tells them; None where that
    cannot be.
    """
    for copy in (disk.gpt.primary, disk.gpt.backup) if disk.gpt else ():
        header = copy.header
        if header is None:
            continue
        first, last = header.first_usable_lba, header.last_usable_lba_inclusive
        room = -(-_ARRAY // disk.source.bytes_per_sector)
        inside = all(first <= start and start + count - 1 <= last for start, count in spans)
        if inside and 2 + room <= first <= last < disk.sectors - 1 - room:
            return first, last
    return None


def with_new_entries(array: bytes, entries: Sequence[tuple[Span, bytes]]) -> bytes:
    """The array, with entries of those volumes added that it does not list, in free places."""
    slots = [array[at : at + gpt.ENTRY_SIZE] for at in range(0, len(array), gpt.ENTRY_SIZE)]
    slots += [bytes(gpt.ENTRY_SIZE)] * (gpt.COUNT - len(slots))
    listed = {int.from_bytes(slot[32:40], "little") for slot in slots if any(slot[:16])}
    free = (number for number, slot in enumerate(slots) if not any(slot[:16]))
    for (start, _), entry in entries:
        if start not in listed:
            slots[next(free)] = entry
    return b"".join(slots)


def _sifted(disk: Disk, offset: int, spans: Sequence[Span]) -> tuple[bytes, int]:
    """An array without the entries that cannot be, and how many agree."""
    try:
        window = disk.source.read(offset, _ARRAY)
        entries = gpt.read_entries(window, _header_for(window)).record
    except InputError:
        return b"", 0
    array, agreeing = bytearray(window.data), 0
    kept: list[gpt.GptEntry] = []
    for entry in entries:
        first, last = entry.first_lba, entry.last_lba_inclusive
        ours = [span for span in spans if span[0] <= last and first < span[0] + span[1]]
        agrees = all(span[0] == first and first + span[1] - 1 <= last for span in ours)
        fits = 0 < first <= last < disk.sectors and not any(
            gpt.overlap(entry, each) for each in kept
        )
        if agrees and fits:
            kept.append(entry)
            agreeing += len(ours)
        else:
            at = (entry.number - 1) * gpt.ENTRY_SIZE
            array[at : at + gpt.ENTRY_SIZE] = bytes(gpt.ENTRY_SIZE)
    return bytes(array), agreeing


def _header_for(window: Window) -> gpt.Header:
    """A header by which an array of the usual size is read."""
    blank = gpt.HEADER.read(Window(bytes(gpt.HEADER_SIZE)))
    return msgspec.structs.replace(
        blank,
        entry_count=gpt.COUNT,
        entry_size=gpt.ENTRY_SIZE,
        entries_crc=zlib.crc32(window.data),
        last_usable_lba_inclusive=(1 << 63),
    )


PARTITION_TABLE = RepairId.PARTITION_TABLE
_SURE = 0.55
"""Below this a volume is not written into a table: one more thing than its own mark has to speak
for it.
"""


def propose_partition_table(request: Request) -> Proposal:
    """The patches that make a table of what was found, or put single entries of one right.

    Raises:
        RefusedError: a table is there already, nothing sure was found, or what was found does not
            fit a table.
        WholeDiskError: the disk would have to be searched and may not be.
    """
    disk, asked = request.disk, request.calling_for(PARTITION_TABLE)
    if _only_lacks_signature(disk):
        says = "Writes 55 aa at the end of sector 0; the table in front of it stays as it is."
        signature = mbr.SIGNATURE.to_bytes(2, "little")
        patch = _partition_table_patch(disk.source, 510, signature, "the signature of sector 0")
        return Proposal(repair=PARTITION_TABLE, says=says, changes=(patch,), answers=asked)
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
        changed = (
            _partition_table_guid_patches(disk, found)
            if as_gpt
            else [_partition_table_record_patch(disk, found)]
        )
    return Proposal(
        repair=PARTITION_TABLE,
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


def _partition_table_record_patch(disk: Disk, found: list[Candidate]) -> Patch:
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
    return _partition_table_patch(
        disk.source, mbr.TABLE_OFFSET, after, "the partition table and its signature"
    )


def _partition_table_guid_patches(disk: Disk, found: list[Candidate]) -> list[Patch]:
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
        patches.append(
            _partition_table_patch(source, mbr.TABLE_OFFSET, record, "the protective MBR")
        )
    patches += [_partition_table_patch(source, lba * size, data, name) for name, lba, data in parts]
    return [patch for patch in patches if patch.before != patch.after]


def _disk_guid(disk: Disk, found: list[Candidate]) -> uuid.UUID:
    """The one that a damaged header still shows, else one made from where the volumes lie."""
    for copy in (disk.gpt.primary, disk.gpt.backup) if disk.gpt else ():
        if copy.header is not None and any(copy.header.disk_guid):
            return uuid.UUID(bytes_le=copy.header.disk_guid)
    return uuid.uuid5(
        uuid.NAMESPACE_OID, " ".join(f"{candidate.offset}+{candidate.bytes}" for candidate in found)
    )


def _partition_table_patch(source: Source, offset: int, after: bytes, says: str) -> Patch:
    return Patch(offset, source.read(offset, len(after)).data, after, says)
