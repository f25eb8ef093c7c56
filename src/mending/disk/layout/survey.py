"""One disk: its MBR, its partitioning scheme and its volumes."""

from enum import StrEnum

import msgspec

from mending.disk.layout.ebr_chain import walk_ebr_chain
from mending.disk.layout.gpt_copies import Gpt, read_gpt
from mending.disk.volume import Volume, look_at_start
from mending.formats.partition import gpt, mbr
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
from mending.source import Source, TargetKind


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
    from mending.disk.content_kind import (  # noqa: PLC0415 - lazy: disks have a table
        HEAD_BYTES,
        content_kind_of,
    )

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
