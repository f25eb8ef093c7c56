"""Is a sector the start of a volume, or the copy of one? What speaks for it decides how sure that
is.

A boot sector or superblock alone may be a leftover. It is believed the more, the more agrees with
it: the second copy, the place it names for itself, and the first structure that it points at.
"""

import struct
from itertools import islice
from typing import NamedTuple

import msgspec

from mending.disk.layout import volume_at
from mending.disk.volume import Volume, fve_head, look_at_start, luks_head, whole_fve_heads
from mending.formats import exfat, ext, fat, fve, luks, ntfs, volume_heads
from mending.model import KINDS, ByteOffset, FilesystemKind, Lba, ReadError, SectorCount, Window
from mending.source import Source

BASE = 0.4
"""Confidence in a volume that nothing but its own mark speaks for."""


class Support(NamedTuple):
    """One thing that speaks for a volume, and how much it adds to the confidence in it."""

    weight: float
    says: str


_COPIES_AGREE = Support(0.25, "both copies of its boot sector agree")
_SUPERBLOCK_BACKUP = Support(0.25, "a copy of its superblock is where it should be")
_OWN_PLACE = Support(0.15, "it knows its own place")
_FIRST_TABLE = Support(0.19, "its first table is where it should be")
"""All kinds of agreement together make nearly certain."""


class Candidate(msgspec.Struct, frozen=True, kw_only=True):
    """A volume that was found.

    Attributes:
        offset: first byte of the volume on the disk.
        bytes: its length as its own structures give it.
        confidence: between 0 and 1.
        because: what speaks for it.
        open_ended: its structures tell no length; `bytes` is the least it can be.
    """

    offset: ByteOffset
    bytes: int
    filesystem: FilesystemKind
    label: str
    confidence: float
    because: tuple[str, ...]
    open_ended: bool = False


def judge_sector(source: Source, head: Window) -> list[Candidate]:
    """The volumes that a sector of 512 bytes may belong to; usually none.

    Raises:
        ReadError
    """
    if ntfs.looks_like(head) and not ntfs.read(head).problems:
        return _ntfs(source, head)
    if exfat.looks_like(head):
        return _exfat(source, head)
    if fat.looks_like(head) and not fat.read(head).problems:
        return _fat(source, head)
    if head.data[56:58] == ext.MAGIC.to_bytes(2, "little"):
        return _ext(source, head.offset)
    return _marked(source, head)


def _ntfs(source: Source, head: Window) -> list[Candidate]:
    volume = ntfs.read(head).record
    size = volume.fields.bytes_per_sector
    length = (volume.sectors + 1) * size
    mft = volume.fields.mft_cluster * volume.cluster_sectors * size
    starts = (head.offset, head.offset - volume.sectors * size)
    return _best(
        source,
        FilesystemKind.NTFS,
        "",
        length,
        starts,
        volume.fields.hidden_sectors * size,
        (mft, b"FILE"),
    )


def _fat(source: Source, head: Window) -> list[Candidate]:
    volume = fat.read(head).record
    fields = volume.fields
    size = fields.bytes_per_sector
    starts = (head.offset, head.offset - (volume.backup_sector or 0) * size)
    content = (fields.reserved_sectors * size, bytes([fields.media, 0xFF]))
    return _best(
        source,
        volume.kind,
        volume.label,
        volume.sectors * size,
        starts,
        fields.hidden_sectors * size,
        content,
    )


def _exfat(source: Source, head: Window) -> list[Candidate]:
    volume = exfat.read(head).record
    size, fields = volume.bytes_per_sector, volume.fields
    if not size or any(fields.zero):
        return []
    starts = (head.offset, head.offset - exfat.REGION_SECTORS * size)
    content = (fields.fat_offset * size, b"\xf8\xff\xff\xff")
    return _best(
        source,
        FilesystemKind.EXFAT,
        "",
        volume.sectors * size,
        starts,
        fields.partition_offset * size,
        content,
    )


def _best(
    source: Source,
    filesystem: FilesystemKind,
    label: str,
    length: int,
    starts: tuple[int, int],
    named: int,
    content: tuple[int, bytes],
) -> list[Candidate]:
    """The likelier of two starts: the sector is the first copy, or it is the second one of a volume
    before it.
    """
    rated = []
    for number, start in enumerate(dict.fromkeys(starts)):
        if start < 0 or start + length > source.size + source.bytes_per_sector:
            continue
        what = "a boot sector" if number == 0 else "the copy of a boot sector"
        because = [Support(0.0, f"{what} names it")]
        if _at(source, start + content[0], content[1]):
            because.append(_FIRST_TABLE)
        if named == start:
            because.append(_OWN_PLACE)
        if _copies_agree(source, ByteOffset(start), length):
            because.append(_COPIES_AGREE)
        rated.append(candidate_of(start, length, filesystem, label, because))
    best = max(rated, key=lambda candidate: candidate.confidence, default=None)
    return [best] if best is not None and len(best.because) > 1 else []


def candidate_of(
    start: int,
    length: int,
    filesystem: FilesystemKind,
    label: str,
    because: list[Support],
    *,
    open_ended: bool = False,
) -> Candidate:
    """A candidate as sure as what speaks for it makes it."""
    return Candidate(
        offset=ByteOffset(start),
        bytes=length,
        filesystem=filesystem,
        label=label,
        confidence=round(BASE + sum(support.weight for support in because), 2),
        because=tuple(support.says for support in because),
        open_ended=open_ended,
    )


def _copies_agree(source: Source, start: ByteOffset, length: int) -> bool:
    _, _, boot = look_at_start(source, start, length)
    return boot.backup is not None and boot.backup.sound and boot.backup.agrees


def _at(source: Source, offset: int, wanted: bytes) -> bool:
    try:
        return source.read(offset, len(wanted)).data == wanted
    except ReadError:
        return False


def _ext(source: Source, offset: int) -> list[Candidate]:
    """The superblock starts at `offset`; its group number tells where the volume starts."""
    window = source.read(offset, ext.SIZE)
    if len(window) < ext.SIZE:
        return []
    reading = ext.read(window, 0)
    block = reading.record
    if any(problem.code != ext.CHECKSUM for problem in reading.problems):
        return []
    first = (block.group * block.blocks_per_group + block.first_data_block) * block.block_size
    start = offset - ext.SUPERBLOCK_OFFSET if block.group == 0 else offset - first
    if start < 0 or start % 512 or start + block.bytes > source.size:
        return []
    what = f"the copy of a superblock in group {block.group}" if block.group else "a superblock"
    because = [Support(0.0, f"{what} names it")]
    magic = ext.MAGIC.to_bytes(2, "little")
    if block.group == 0 and any(
        _at(source, start + place + 56, magic) for place in islice(ext.copies(block), 1)
    ):
        because.append(_SUPERBLOCK_BACKUP)
    if block.group and _at(source, start + ext.SUPERBLOCK_OFFSET + 56, magic):
        return []  # the first copy is there and speaks for itself
    return [candidate_of(start, block.bytes, FilesystemKind.EXT, block.name, because)]


def _marked(source: Source, head: Window) -> list[Candidate]:
    """A mark of another kind: the volume starts in this sector or a known distance before it."""
    for row in volume_heads.SIGNATURES:
        start, inside = head.offset - row.offset // 512 * 512, row.offset % 512
        locked = KINDS[row.filesystem].is_locked  # those are judged by their heads
        if locked or head.data[inside : inside + len(row.magic)] != row.magic:
            continue
        if row.filesystem == FilesystemKind.BTRFS:  # every copy of its superblock says where it is
            start = head.offset - int.from_bytes(
                head.data[volume_heads.BTRFS_PLACE : volume_heads.BTRFS_PLACE + 8], "little"
            )
        if start < 0:
            continue
        try:
            mark = volume_heads.recognise(source.read(start, volume_heads.READ_BYTES))
        except ReadError:
            continue
        if (
            mark is not None
            and mark.filesystem == row.filesystem
            and 0 < mark.info.bytes <= source.size - start
        ):
            return [
                candidate_of(
                    start,
                    mark.info.bytes,
                    mark.filesystem,
                    mark.info.label,
                    [Support(0.0, "its mark names it")],
                )
            ]
    return []


# Is a sector the start of a locked volume? Its head decides how sure that is, and mostly does not
# say how long the volume is.


_SECOND_AT = struct.Struct(">Q")
_SECOND_PLACE = 256
"""Where a LUKS2 head says how far from the start of its volume it lies itself (2.1.0, 2.1)."""
_HIDDEN, _HIDDEN_AT = struct.Struct("<I"), 28
_SECTORS, _SECTORS_AT = struct.Struct("<Q"), 40
"""Of the first sector of the nt family's, as of every boot sector: how many sectors lie before it,
and how many are its own, less one; the latter only in the first version.
"""
_ENCRYPTED = 4
_MAGICS = {luks.MAGIC, luks.SECOND_MAGIC}
_NAMED = Support(0.0, "its mark names it")
_SENSE = Support(0.25, "its head makes sense")
_WHOLE = Support(0.25, "the checksum of its head holds")
_COPY = Support(0.19, "a second copy of its head is whole")
NO_LENGTH = "it tells no length of its own"


def begins_locked(head: Window) -> bool:
    """Whether a sector begins a locked volume, or the second copy of its head, by its marks."""
    return head.data[: len(luks.MAGIC)] in _MAGICS or fve.read_first(head.data) is not None


def judge_locked(source: Source, head: Window) -> list[Candidate]:
    """The locked volume that a sector belongs to, if any."""
    if head.data[: len(luks.MAGIC)] in _MAGICS:
        return _luks(source, head)
    first = fve.read_first(head.data)
    return _fve(source, head, first) if first is not None else []


def _luks(source: Source, head: Window) -> list[Candidate]:
    second = head.data[: len(luks.MAGIC)] == luks.SECOND_MAGIC
    start = head.offset
    if second:
        start -= _SECOND_AT.unpack_from(head.data, _SECOND_PLACE)[0]
    volume = _rest_of(source, start)
    if volume is None or (second and _begins(source, start, luks.MAGIC)):
        return []  # where the first copy is there, it speaks for itself
    found = luks_head(source, volume)
    if found is None:
        return []
    because, segment = [_NAMED, _WHOLE if found.version > 1 else _SENSE], found.segment
    if not second and found.version > 1 and _second_is_whole(source, volume):
        because.append(_COPY)
    least = segment.offset + segment.bytes if segment is not None else luks.SECOND_PLACES[0]
    ends = segment is not None and segment.bytes > 0
    return _fitting(volume, least, FilesystemKind.LUKS, because, ends=ends)


def _fve(source: Source, head: Window, first: fve.FirstSector) -> list[Candidate]:
    volume = _rest_of(source, head.offset)
    found = fve_head(source, volume) if volume is not None else None
    if volume is None or found is None:
        return []
    because, whole = [_NAMED], whole_fve_heads(source, volume)
    because += [_WHOLE] if whole else [_SENSE] if found.version == 1 else []
    because += [_COPY] if whole > 1 else []
    hidden = _HIDDEN.unpack_from(head.data, _HIDDEN_AT)[0]
    if hidden * first.sector == head.offset:
        because.append(_OWN_PLACE)
    length = 0
    if found.version == 1:
        length = (_SECTORS.unpack_from(head.data, _SECTORS_AT)[0] + 1) * first.sector
    elif found.state == _ENCRYPTED:
        length = found.boundary
    least = max((place + size for place, size in found.reserved), default=0)
    ends = least <= length
    return _fitting(volume, max(least, length), FilesystemKind.ENCRYPTED, because, ends=ends)


def _fitting(
    volume: Volume, length: int, filesystem: FilesystemKind, because: list[Support], *, ends: bool
) -> list[Candidate]:
    """Args: ends: whether the length is the volume's own, not only the least it can be."""
    if not 0 < length <= volume.bytes:
        return []
    if not ends:
        because = [*because, Support(0.0, NO_LENGTH)]
    candidate = candidate_of(volume.offset, length, filesystem, "", because, open_ended=not ends)
    return [candidate]


def _rest_of(source: Source, offset: int) -> Volume | None:
    """The disk from a place on, as a volume."""
    size = source.bytes_per_sector
    if offset < 0 or offset % size or offset >= source.size:
        return None
    count = SectorCount((source.size - offset) // size)
    return volume_at(source, Lba(offset // size), count)


def _second_is_whole(source: Source, volume: Volume) -> bool:
    for place in luks.SECOND_PLACES:
        at, length = volume.offset + place, min(luks.MOST_HEAD, volume.bytes - place)
        if length > 0 and _begins(source, at, luks.SECOND_MAGIC):
            return luks.read_luks(source.read(at, length)) is not None
    return False


def _begins(source: Source, offset: int, magic: bytes) -> bool:
    try:
        return source.read(offset, len(magic)).data == magic
    except ReadError:
        return False
