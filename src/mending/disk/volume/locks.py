"""The head of a locked volume, wherever a sound copy of it is."""

import contextlib

from mending.disk.volume.volume import Volume
from mending.formats.encryption import fve, luks
from mending.formats.encryption.fve import FveHead
from mending.formats.encryption.luks import LuksHead
from mending.model import ReadError
from mending.source import Source


def luks_head(source: Source, volume: Volume) -> LuksHead | None:
    """The head of a LUKS volume, from its second copy where the first is damaged.

    Raises:
        ReadError
    """
    for place in (0, *luks.SECOND_PLACES):
        if place < volume.bytes:
            length = min(luks.MOST_HEAD, volume.bytes - place)
            head = luks.read_luks(source.read(volume.offset + place, length))
            if head is not None:
                return head
    return None


def fve_head(source: Source, volume: Volume) -> FveHead | None:
    """The head of an encrypted volume of the nt family, from the copy whose checksum holds; where
    that is so of none, from one that makes sense. None where no copy does.

    Raises:
        ReadError: the first sector cannot be read.
    """
    first = fve.read_first(source.read(volume.offset, fve.SECTOR_BYTES).data)
    if first is None:
        return None
    places, seen, fallback = list(first.blocks), set[int](), None
    while places:
        place = places.pop(0)
        if place in seen or not 0 < place < volume.bytes:
            continue
        seen.add(place)
        try:
            data = _block(source, volume, place)
        except ReadError:  # there are others
            continue
        places += fve.other_blocks(data) if len(seen) < len(first.blocks) + 1 else ()
        head = fve.read_block(data, first)
        if head is not None and fve.is_whole(data):
            return head
        fallback = fallback or head
    return fallback


def whole_fve_heads(source: Source, volume: Volume) -> int:
    """How many copies of the head that the first sector names have a checksum that holds.

    Raises:
        ReadError: the first sector cannot be read.
    """
    first = fve.read_first(source.read(volume.offset, fve.SECTOR_BYTES).data)
    whole = 0
    for place in first.blocks if first is not None else ():
        with contextlib.suppress(ReadError):
            inside = 0 < place < volume.bytes
            whole += inside and fve.is_whole(_block(source, volume, place))
    return whole


def _block(source: Source, volume: Volume, place: int) -> bytes:
    start, left = volume.offset + place, volume.bytes - place
    size = fve.block_bytes(source.read(start, min(fve.SECTOR_BYTES, left)).data)
    return source.read(start, min(size, left)).data
