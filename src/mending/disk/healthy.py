"""What a healthy copy lists, and by what the PC it belongs to is known."""

import hashlib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from mending.disk.layout import Disk, volume_at
from mending.disk.volume import read_volume_info
from mending.model import (
    FileAttributes,
    InputError,
    Lba,
    Phase,
    SectorCount,
    decode_json,
    format_json,
)
from mending.model.limits import LARGEST_CHANGE
from mending.source import Output
from mending.source.archive import ArchiveReader, new_archive

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


# The file of a healthy copy. Format: `docs/formats.md`.
#
# A ZIP with `copy.json` (see `index`), `range-N.bin` for its range N and `file-N.bin` for its file
# N. Every member has its sum in the index, and nothing is given out whose sum is another.


_INDEX, _INDEX_BYTES = "copy.json", 64 << 20


class HealthyCopy(msgspec.Struct, frozen=True):
    """An opened copy."""

    path: Path
    index: HealthyIndex
    archive: ArchiveReader

    def range_bytes(self, number: int) -> bytes:
        """The bytes of a range.

        Raises:
            InputError: the copy is damaged.
        """
        kept = self.index.ranges[number]
        return self._member(f"range-{number}.bin", kept.sha256, kept.length)

    def file_bytes(self, number: int) -> bytes:
        """The content of a file.

        Raises:
            InputError: the copy is damaged.
        """
        kept = self.index.files[number]
        return self._member(f"file-{number}.bin", kept.sha256, kept.bytes)

    def _member(self, name: str, digest: str, length: int) -> bytes:
        data = self.archive.read(name, min(length, LARGEST_CHANGE))
        if hashlib.sha256(data).hexdigest() != digest:
            raise InputError(f"{name} in {self.path} is not what was kept.", "Use another copy.")
        return data


def load_copy(path: Path) -> HealthyCopy:
    """Open a copy.

    Raises:
        InputError: it is none, or is damaged.
    """
    try:
        archive = ArchiveReader(path)
    except InputError as error:
        raise InputError(
            f"{path} is no healthy copy.", "Name the file that `mending keep` wrote."
        ) from error
    try:
        index = decode_json(archive.read(_INDEX, _INDEX_BYTES), HealthyIndex)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(f"{path} is no healthy copy: {error}.") from error
    return HealthyCopy(path, index, archive)


def save_copy(
    output: Output,
    index: HealthyIndex,
    ranges: Iterable[tuple[KeptRange, bytes]],
    files: Iterable[tuple[KeptFile, bytes | None]],
    left_out: Sequence[str],
) -> HealthyIndex:
    """Write a copy; its index comes last, for it lists what was put.

    Args:
        index: everything but ranges and files.
        files: None for one of which only the sum is kept.
        left_out: grows while the files are walked.

    Raises:
        InputError: it cannot be written. RefusedError: its name is taken.
    """
    with new_archive(output) as archive:
        kept_ranges = []
        for number, (kept, data) in enumerate(ranges):
            archive.put(f"range-{number}.bin", data)
            kept_ranges.append(kept)
        kept_files = []
        for number, (file, content) in enumerate(files):
            if content is not None:
                archive.put(f"file-{number}.bin", content)
            kept_files.append(file)
        whole = msgspec.structs.replace(
            index,
            ranges=tuple(kept_ranges),
            files=tuple(kept_files),
            left_out=tuple(left_out),
        )
        archive.put(_INDEX, format_json(whole))
    return whole
