"""One disk: its MBR, its partitioning scheme and its volumes."""

from collections.abc import Iterator
from enum import StrEnum
from itertools import islice

import msgspec

from mending.disk.layout.tables import Gpt, read_gpt, walk_ebr_chain
from mending.disk.shadow import shadow_copies
from mending.disk.volume import Volume, look_at_start
from mending.formats import gpt, mbr
from mending.model import (
    KINDS,
    ByteOffset,
    FilesystemKind,
    InputError,
    Lba,
    Problem,
    ReadError,
    Reading,
    SectorCount,
)
from mending.source import IdentityPart, Source, TargetKind
from mending.source.stitched import OverlaidSource, ViewedSource


class Scheme(StrEnum):
    """How the disk is divided."""

    MBR = "mbr"
    GPT = "gpt"
    NONE = "none"


class Disk(msgspec.Struct, frozen=True):
    """A disk as it was found.

    Attributes:
        mbr: the first sector; None where it cannot be read.
        unreadable: why not; empty when it can.
        ebr_problems: what is wrong with the EBR chain.
        gpt: None where neither a GPT header nor a protective entry is there.
    """

    source: Source
    sectors: SectorCount
    scheme: Scheme
    mbr: Reading[mbr.MasterBootRecord] | None
    unreadable: str
    gpt: Gpt | None
    volumes: tuple[Volume, ...]
    ebr_problems: tuple[Problem, ...] = ()


def survey(source: Source) -> Disk:
    """Read the tables and the start of every volume in them.

    Raises:
        InputError: an image that is no disk: less than a sector; or without a table, and text or a
            part of a sector.
    """
    sectors = SectorCount(source.size // source.bytes_per_sector)
    if sectors < 1:
        says = f"{source.path} has {source.size} bytes, which is less than one sector."
        raise InputError(says, "This is no disk image.")
    try:
        record = _believable(mbr.read(source.read(0, mbr.SIZE), sectors))
    except ReadError as error:
        return Disk(source, sectors, Scheme.NONE, None, error.says, None, ())
    table = read_gpt(source)
    if record.record.protective or table.primary.header or table.backup.header:
        return Disk(source, sectors, Scheme.GPT, record, "", table, _guid_volumes(source, table))
    _refuse_what_is_no_disk(source, record)
    if _is_volume(source, record):
        return Disk(source, sectors, Scheme.NONE, record, "", None, (_whole_disk(source, sectors),))
    scheme = (
        Scheme.NONE if record.has("signature-missing") and not record.record.entries else Scheme.MBR
    )
    chains = [walk_ebr_chain(source, entry) for entry in record.record.entries if entry.extended][
        :1
    ]
    entries = [*record.record.entries, *(entry for chain in chains for entry in chain.entries)]
    faults = tuple(problem for chain in chains for problem in chain.problems)
    return Disk(
        source, sectors, scheme, record, "", None, _numbered(source, record.record, entries), faults
    )


def _believable(record: Reading[mbr.MasterBootRecord]) -> Reading[mbr.MasterBootRecord]:
    """Without the signature, and with more wrong besides, what stands in the place of the table is
    no table.
    """
    missing = [problem for problem in record.problems if problem.code == "signature-missing"]
    if not missing or len(record.problems) == len(missing):
        return record
    return Reading(msgspec.structs.replace(record.record, entries=()), tuple(missing))


def _refuse_what_is_no_disk(source: Source, record: Reading[mbr.MasterBootRecord]) -> None:
    if (
        source.kind is TargetKind.DEVICE
        or not record.has("signature-missing")
        or record.record.entries
    ):
        return
    # lazy: disks have a table
    from mending.disk.content_kind import HEAD_BYTES, content_kind_of  # noqa: PLC0415

    if source.size % mbr.SIZE or content_kind_of(source.read(0, HEAD_BYTES).data) == "text":
        raise InputError(
            f"{source.path} is no disk: it has no table and is something else.",
            "Name a disk image.",
        )


_NAMED = {FilesystemKind.NTFS, FilesystemKind.EXFAT, FilesystemKind.ENCRYPTED}
"""Kinds whose boot sector carries a name that no MBR has; their code may look like a table by
chance.
"""


def _is_volume(source: Source, record: Reading[mbr.MasterBootRecord]) -> bool:
    """Whether sector 0 is no MBR but the start of a volume that fills the disk."""
    filesystem, _, boot = look_at_start(source, ByteOffset(0), source.size)
    if not boot.sound or not KINDS[filesystem].is_recognised:
        return False
    believable = any(
        entry.flag in {0, mbr.ACTIVE} and entry.sectors and entry.first_lba
        for entry in record.record.entries
    )
    return filesystem in _NAMED or not believable


def _whole_disk(source: Source, sectors: SectorCount) -> Volume:
    whole = mbr.PartitionEntry(1, ByteOffset(0), mbr.ACTIVE, 0, Lba(0), sectors)
    return msgspec.structs.replace(_volume(source, whole), type="whole disk")


def volume_at(source: Source, start: Lba, sectors: SectorCount) -> Volume:
    """What lies at a place that no table lists; its number is 0."""
    return _volume(source, mbr.PartitionEntry(0, ByteOffset(0), 0, 0, start, sectors))


def _guid_volumes(source: Source, table: Gpt) -> tuple[Volume, ...]:
    believed = table.believed
    if believed is None:
        return ()
    ignored = believed.passed_over
    return tuple(
        msgspec.structs.replace(_guid_volume(source, entry), passed_over=entry.number in ignored)
        for entry in believed.entries
    )


def _numbered(
    source: Source, record: mbr.MasterBootRecord, entries: list[mbr.PartitionEntry]
) -> tuple[Volume, ...]:
    """Volumes of a table in sector 0; their identifiers are made of the disk's and their number."""
    disk = record.fields.disk_signature
    return tuple(
        msgspec.structs.replace(
            _volume(source, entry), partuuid=f"{disk:08x}-{entry.number:02x}" if disk else ""
        )
        for entry in entries
    )


def _guid_volume(source: Source, entry: gpt.GptEntry) -> Volume:
    count = SectorCount(entry.last_lba_inclusive - entry.first_lba + 1)
    volume = _volume(
        source, mbr.PartitionEntry(entry.number, entry.offset, 0, 0, entry.first_lba, count)
    )
    return msgspec.structs.replace(
        volume,
        type=entry.type_name,
        efi=entry.type == gpt.EFI_SYSTEM,
        partuuid=str(entry.guid),
        partlabel=entry.name,
    )


def _volume(source: Source, entry: mbr.PartitionEntry) -> Volume:
    offset = ByteOffset(entry.first_lba * source.bytes_per_sector)
    length = entry.sectors * source.bytes_per_sector
    filesystem, label, boot = look_at_start(source, offset, length)
    return Volume(
        number=entry.number,
        start=entry.first_lba,
        sectors=entry.sectors,
        offset=offset,
        bytes=length,
        type=entry.type_name,
        efi=entry.type == mbr.EFI_SYSTEM,
        entry_offset=entry.offset,
        active=entry.active,
        extended=entry.extended,
        filesystem=filesystem,
        label=label,
        boot=boot,
    )


# A volume, or the whole disk, as it was at a moment that a shadow copy keeps.


def volume_at_moment(source: Source, volume: Volume, number: int) -> tuple[Source, Volume]:
    """A volume as it was, and the source to read it by.

    Raises:
        InputError: it keeps no such moment.
    """
    copies = shadow_copies(source, volume.offset, volume.bytes)
    entry = next((each for each in copies.entries if each.number == number), None)
    if entry is None:
        known = ", ".join(str(each.number) for each in copies.entries) or "none"
        raise InputError(f"Volume {volume.number} keeps no moment {number}; it keeps {known}.")
    viewed = ViewedSource(source)
    offset = viewed.add(copies.volume(entry).read)
    sector = source.bytes_per_sector
    was = volume_at(viewed, Lba(offset // sector), SectorCount(entry.size // sector))
    return viewed, msgspec.structs.replace(
        was, number=volume.number, start=volume.start, offset=ByteOffset(offset)
    )


def disk_at_moment(source: Source, number: int) -> Source:
    """A disk whose volume is as it was at a moment; the rest is as it is.

    Raises:
        InputError: no volume of it keeps such a moment.
    """
    known = list[int]()
    for volume in survey(source).volumes:
        if volume.filesystem is not FilesystemKind.NTFS:
            continue
        copies = shadow_copies(source, volume.offset, volume.bytes)
        known += [entry.number for entry in copies.entries]
        entry = next((each for each in copies.entries if each.number == number), None)
        if entry is not None:
            length = min(entry.size, volume.bytes)
            found = OverlaidSource(source, volume.offset, length, copies.volume(entry).read)
            found.path = f"{source.path}@{number}"
            return found
    told = ", ".join(map(str, known)) or "none"
    raise InputError(f"{source.path} keeps no moment {number}; it keeps {told}.")


# Where the identifiers of a disk stand: those of its table, and of each file system on it. No use
# of the disk changes them, and two disks that are no copies of each other differ in them.


_SIGNATURE = IdentityPart(440, 4)
"""Of the disk, in its MBR."""
_GUID_AT, _GUID_BYTES = 56, 16
"""Of the disk, in a GPT header."""
_MOST_VOLUMES = 32


def identifier_ranges(disk: Disk | None) -> tuple[IdentityPart, ...]:
    """The byte ranges of all identifiers; none of what is no disk."""
    if disk is None:
        return ()
    parts = [_SIGNATURE]
    if disk.gpt is not None:
        size = disk.source.bytes_per_sector
        parts += [
            IdentityPart(sector * size + _GUID_AT, _GUID_BYTES) for sector in (1, disk.sectors - 1)
        ]
    for volume in islice(disk.volumes, _MOST_VOLUMES):
        at, length = volume.kind.identifier
        if length and at + length <= volume.bytes:
            parts.append(IdentityPart(volume.offset + at, length))
    return tuple(parts)


# The stretches of a disk that no table lists, and what begins in them.


ALIGNED = 1 << 20
"""Partitioning programs start volumes at whole MiB; older ones at sector 63."""
_OLD_START = 63


def usable_range(disk: Disk) -> tuple[Lba, Lba]:
    """First sector for volumes, and the first one behind them."""
    believed = disk.gpt.believed if disk.gpt is not None else None
    if believed is not None and believed.header is not None:
        return Lba(believed.header.first_usable_lba), Lba(
            believed.header.last_usable_lba_inclusive + 1
        )
    if disk.scheme is Scheme.GPT:
        room = 1 + -(-gpt.COUNT * gpt.ENTRY_SIZE // disk.source.bytes_per_sector)
        return Lba(1 + room), Lba(disk.sectors - room)
    return Lba(1), Lba(disk.sectors)


def gaps(disk: Disk) -> Iterator[tuple[Lba, SectorCount]]:
    """Stretches between first and last usable sector that no entry covers; an extended entry covers
    its own.
    """
    at, end = usable_range(disk)
    for volume in sorted(disk.volumes, key=lambda volume: volume.start):
        if at < volume.start <= end:
            yield at, SectorCount(volume.start - at)
        at = max(at, Lba(volume.start + volume.sectors))
    if at < end:
        yield at, SectorCount(end - at)


def find_unlisted_volumes(disk: Disk) -> list[Volume]:
    """Volumes that no entry lists and that begin where a partitioning program would have put them.

    Looked at are the starts of gaps and of entries behind which nothing is known, up to the next
    whole MiB; a search finds the others.
    """
    size = disk.source.bytes_per_sector
    step = max(ALIGNED // size, 1)
    hollow = [
        volume.start
        for volume in disk.volumes
        if not volume.kind.is_recognised and not volume.extended
    ]
    listed = {volume.start for volume in disk.volumes}
    found: dict[Lba, Volume] = {}
    for start in [*(start for start, _ in gaps(disk)), *hollow]:
        for place in (
            start,
            -(-start // step) * step,
            *((_OLD_START,) if start < _OLD_START else ()),
        ):
            if place in listed or not 0 < place < disk.sectors:
                continue
            volume = volume_at(disk.source, Lba(place), SectorCount(disk.sectors - place))
            if volume.kind.is_recognised and volume.boot.sound:
                found.setdefault(volume.start, volume)
    return sorted(found.values(), key=lambda volume: volume.start)
