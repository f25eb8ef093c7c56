"""The volumes of a disk that a key opens, as volumes of their own."""

from collections.abc import Sequence

import msgspec

from mending.disk.layout import volume_at
from mending.disk.locked.unlocking import unlock_luks
from mending.disk.volume import Volume
from mending.model import ByteOffset, FilesystemKind, InputError, Lba, SectorCount, UsageError
from mending.source import Source
from mending.source.stitched import ViewedSource

FIRST_NUMBER = 2001
"""Unlocked volumes have no number in a table; theirs begin here."""


def with_unlocked_volumes(
    source: Source, volumes: Sequence[Volume], secret: bytes
) -> tuple[Source, dict[int, Volume]]:
    """What is inside locked volumes, by the number of the volume that holds it, and the source to
    read all by.

    Raises:
        UsageError: no volume is locked, or in a way that is not read here; or an extra is missing.
        InputError: the key opens none of them.
    """
    locked = [each for each in volumes if each.filesystem is FilesystemKind.LUKS]
    if not locked:
        raise UsageError("No volume here is locked in a way that is read.", "Leave the key out.")
    viewed, found, refused = ViewedSource(source), dict[int, Volume](), list[InputError]()
    for volume in locked:
        try:
            plain = unlock_luks(source, volume, secret)
        except InputError as error:
            refused.append(error)
            continue
        offset, sector = viewed.add(plain.read), source.bytes_per_sector
        count = SectorCount(plain.bytes // sector)
        inside = volume_at(viewed, Lba(offset // sector), count)
        found[volume.number] = msgspec.structs.replace(
            inside,
            number=FIRST_NUMBER + len(found),
            start=volume.start,
            offset=ByteOffset(offset),
            type=f"inside volume {volume.number}",
            mapped=f"luks-{plain.identifier}",
        )
    if not found:
        raise refused[0]
    return viewed, found
