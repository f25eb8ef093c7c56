"""Is a sector the start of a locked volume? Its head decides how sure that is, and mostly does not
say how long the volume is.
"""

import struct

from mending.disk.layout import volume_at
from mending.disk.scan.candidates import Candidate, Support, candidate_of
from mending.disk.volume import Volume, fve_head, luks_head, whole_fve_heads
from mending.formats.encryption import fve, luks
from mending.model import FilesystemKind, Lba, ReadError, SectorCount, Window
from mending.source import Source

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
_OWN_PLACE = Support(0.15, "it knows its own place")
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
