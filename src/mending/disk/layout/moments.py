"""A volume, or the whole disk, as it was at a moment that a shadow copy keeps."""

import msgspec

from mending.disk.layout.survey import survey, volume_at
from mending.disk.shadow import shadow_copies
from mending.disk.volume import Volume
from mending.model import ByteOffset, FilesystemKind, InputError, Lba, SectorCount
from mending.source import Source
from mending.source.stitched import OverlaidSource, ViewedSource


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
