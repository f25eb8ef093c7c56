"""Entries of a table that is there put right: lost ones added, hollow ones moved, short ones made
long enough.

An entry is hollow when nothing that we know begins where it starts. It is moved only when a volume
that was found, and that no other entry lists, shares sectors with it. No entry is shortened, and
none may share sectors with another.
"""

import uuid

import msgspec

from mending.boot.bios import could_start
from mending.disk.layout import Disk, Scheme, volume_at
from mending.disk.scan import Candidate
from mending.disk.volume import Volume
from mending.formats.partition import gpt, mbr
from mending.model import FilesystemKind, Lba, Patch, RefusedError, SectorCount
from mending.repair.partition.new_entries import named, span, type_byte, type_guid

_PRIMARY = range(1, 5)
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
    return says, _record_patches(disk, changes), listed


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


def _record_patches(disk: Disk, changes: list[EntryChange]) -> list[Patch]:
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
