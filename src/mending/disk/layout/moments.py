"""A volume as it was at a moment that one of its shadow copies keeps."""

import msgspec

from mending.disk.layout.survey import volume_at
from mending.disk.shadow import shadow_copies
from mending.disk.volume import Volume
from mending.model import ByteOffset, InputError, Lba, SectorCount
from mending.source import Source
from mending.source.stitched import ViewedSource


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
