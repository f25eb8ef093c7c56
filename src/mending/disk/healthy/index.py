"""What a healthy copy lists, and by what the PC it belongs to is known."""

from collections.abc import Mapping

import msgspec

from mending.disk.layout import Disk, volume_at
from mending.disk.volume import read_volume_info
from mending.model import FileAttributes, Lba, Phase, SectorCount

_DISK, _VOLUME = "disk", "volume at "


class KeptRange(msgspec.Struct, frozen=True, kw_only=True):
    """Bytes of the disk itself.

    Attributes:
        what: for people.
        phase: the first one that needs them.
    """

    what: str
    phase: Phase
    offset: int
    length: int
    sha256: str


class KeptFile(msgspec.Struct, frozen=True, kw_only=True):
    """A file of a volume.

    Attributes:
        volume: number of the volume when it was kept; `identifier` of its file system.
        attributes: None where the file system keeps none.
        kept: whether its content is in the copy; else only its sum is.
    """

    path: str
    what: str
    phase: Phase
    volume: int
    identifier: str
    bytes: int
    sha256: str
    attributes: FileAttributes | None = None
    kept: bool = True


class HealthyIndex(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="healthy-copy/1"
):
    """The content of `copy.json`.

    Attributes:
        made: time in RFC 3339.
        bytes: length of the disk; `sector` bytes per sector.
        identifiers: of the disk and of each file system, by where they stand.
        left_out: what was too large, one sentence each.
    """

    made: str
    path: str
    bytes: int
    sector: int
    serial: str
    firmware: str
    verdict: str
    identifiers: Mapping[str, str]
    ranges: tuple[KeptRange, ...]
    files: tuple[KeptFile, ...]
    left_out: tuple[str, ...] = ()


def identifiers_of(disk: Disk) -> dict[str, str]:
    """What a disk and its file systems call themselves, by `disk` or the start of the volume."""
    found: dict[str, str] = {}
    if disk.gpt is not None:
        copy = disk.gpt.believed
        found |= {_DISK: str(copy.header.disk_guid)} if copy and copy.header else {}
    elif disk.mbr is not None:
        signature = disk.mbr.record.fields.disk_signature
        found |= {_DISK: f"{signature:08x}"} if signature else {}
    for volume in disk.volumes:
        identifier = "" if volume.extended else read_volume_info(disk.source, volume).identifier
        if identifier:
            found[f"{_VOLUME}{volume.offset}"] = identifier
    return found


def why_not_of(index: HealthyIndex, disk: Disk) -> str:
    """Why a copy is not of the PC that a disk is of; empty where it is. A lost table or file system
    says nothing; what is there must agree, and something must.
    """
    if index.serial and disk.source.serial:
        same = index.serial == disk.source.serial
        return "" if same else "the drive has another serial number"
    now = identifiers_of(disk)
    if _DISK in now and index.identifiers.get(_DISK, now[_DISK]) != now[_DISK]:
        return "the disk calls itself otherwise"
    if set(index.identifiers.values()) & set(now.values()) or _is_unlisted(index, disk):
        return ""
    return "nothing that is left on the disk is named in it"


def _is_unlisted(index: HealthyIndex, disk: Disk) -> bool:
    """Whether a file system of the copy lies where it was, although no table lists it now."""
    for place, identifier in index.identifiers.items():
        where = place.removeprefix(_VOLUME)
        if not place.startswith(_VOLUME) or not where.isdecimal():
            continue
        sector, rest = divmod(int(where), disk.source.bytes_per_sector)
        if rest or sector >= disk.sectors:
            continue
        volume = volume_at(disk.source, Lba(sector), SectorCount(disk.sectors - sector))
        if read_volume_info(disk.source, volume).identifier == identifier:
            return True
    return False
