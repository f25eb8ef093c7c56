"""One disk: its boot record, its partitioning scheme and its volumes."""

from enum import StrEnum

import msgspec

from mending.disk.sort import HEAD_BYTES, sort_of
from mending.disk.volumes import Volume, look_at_start
from mending.formats import gpt, mbr
from mending.model import ByteOffset, InputError, Lba, ReadError, Reading, SectorCount
from mending.source import Source, TargetKind


class Scheme(StrEnum):
    """How the disk is divided."""

    MBR = "mbr"
    GPT = "gpt"
    NONE = "none"


class Disk(msgspec.Struct, frozen=True):
    """A disk as it was found.

    Attributes:
        boot_record: the first sector; None where it cannot be read.
        unreadable: why not; empty when it can.
        gpt_found: whether a GPT header or a protective entry is there, whatever state it is in.
    """

    source: Source
    sectors: SectorCount
    scheme: Scheme
    boot_record: Reading[mbr.BootRecord] | None
    unreadable: str
    gpt_found: bool
    volumes: tuple[Volume, ...]


def survey(source: Source) -> Disk:
    """Read the boot record and the start of every volume in its table.

    Raises:
        InputError: an image that is no disk: less than a sector; or without a table, and text or a part of a sector.
    """
    sectors = SectorCount(source.size // source.bytes_per_sector)
    if sectors < 1:
        raise InputError(
            f"{source.path} has {source.size} bytes, which is less than one sector.", "This is no disk image."
        )
    try:
        record = _believable(mbr.read(source.read(0, mbr.SIZE), sectors))
    except ReadError as error:
        return Disk(source, sectors, Scheme.NONE, None, error.says, False, ())
    _refuse_what_is_no_disk(source, record)
    if _is_volume(source, record.record):
        return Disk(source, sectors, Scheme.NONE, record, "", False, (_whole_disk(source, sectors),))
    gpt_found = record.record.protective or _has_gpt(source)
    volumes = tuple(_volume(source, entry) for entry in record.record.entries if entry.type != mbr.GPT_PROTECTIVE)
    return Disk(source, sectors, _scheme(record, gpt_found), record, "", gpt_found, volumes)


def _believable(record: Reading[mbr.BootRecord]) -> Reading[mbr.BootRecord]:
    """Without the signature, and with more wrong besides, what stands in the place of the table is no table."""
    missing = [problem for problem in record.problems if problem.code == "signature-missing"]
    if not missing or len(record.problems) == len(missing):
        return record
    return Reading(msgspec.structs.replace(record.record, entries=()), tuple(missing))


def _refuse_what_is_no_disk(source: Source, record: Reading[mbr.BootRecord]) -> None:
    if source.kind is TargetKind.DEVICE or not record.has("signature-missing") or record.record.entries:
        return
    if source.size % mbr.SIZE or sort_of(source.read(0, HEAD_BYTES).data) == "text":
        raise InputError(
            f"{source.path} is no disk: it has no table, and its content is something else.", "Name a disk image."
        )


def _scheme(record: Reading[mbr.BootRecord], gpt_found: bool) -> Scheme:
    if gpt_found:
        return Scheme.GPT
    return Scheme.MBR if record.record.entries or not record.has("signature-missing") else Scheme.NONE


def _is_volume(source: Source, record: mbr.BootRecord) -> bool:
    """Whether sector 0 is no boot record but the boot sector of a volume that fills the disk."""
    plausible = any(entry.flag in {0, mbr.ACTIVE} and entry.sectors and entry.first_lba for entry in record.entries)
    if plausible:
        return False
    _, _, boot = look_at_start(source, ByteOffset(0), source.size)
    return boot.sound and boot.bytes_per_sector > 0


def _whole_disk(source: Source, sectors: SectorCount) -> Volume:
    whole = mbr.Entry(1, ByteOffset(0), mbr.ACTIVE, 0, Lba(0), sectors)
    return msgspec.structs.replace(_volume(source, whole), type="whole disk")


def _has_gpt(source: Source) -> bool:
    last = source.size - source.bytes_per_sector
    try:
        return any(gpt.has_signature(source.read(at, 512)) for at in (source.bytes_per_sector, last))
    except ReadError:
        return False


def _volume(source: Source, entry: mbr.Entry) -> Volume:
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
        entry_offset=entry.offset,
        active=entry.active,
        extended=entry.extended,
        filesystem=filesystem,
        label=label,
        boot=boot,
    )
