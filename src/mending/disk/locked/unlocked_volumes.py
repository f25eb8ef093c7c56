"""The volumes of a disk that a key opens, as volumes of their own."""

from collections.abc import Sequence

import msgspec

from mending.disk.layout import volume_at
from mending.disk.locked.fve_unlocking import FveVolume, is_open, unlock_fve
from mending.disk.locked.unlocking import LuksVolume, unlock_luks
from mending.disk.volume import Volume, fve_head
from mending.model import (
    ByteOffset,
    FilesystemKind,
    InputError,
    Lba,
    ReadError,
    SectorCount,
    UsageError,
)
from mending.source import Source
from mending.source.stitched import ViewedSource

FIRST_NUMBER = 2001
"""Unlocked volumes have no number in a table; theirs begin here."""
_KINDS = {FilesystemKind.LUKS, FilesystemKind.ENCRYPTED}


def with_unlocked_volumes(
    source: Source, volumes: Sequence[Volume], secret: bytes | None
) -> tuple[Source, dict[int, Volume]]:
    """What is inside locked volumes, by the number of the volume that holds it, and the source to
    read all by.

    Args:
        secret: a passphrase, digits or the bytes of a key file; None to open what needs no key.

    Raises:
        UsageError: no volume is locked, or in a way that is not read here; or an extra is missing.
        InputError: the key opens none of them.
    """
    locked = [each for each in volumes if each.filesystem in _KINDS]
    if secret is None:
        locked = [each for each in locked if _is_open(source, each)]
    if not locked:
        raise UsageError("No volume here is locked in a way that is read.", "Leave the key out.")
    viewed, found, refused = ViewedSource(source), dict[int, Volume](), list[InputError]()
    for volume in locked:
        try:
            plain = _unlocked(source, volume, secret)
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
            mapped=f"luks-{plain.identifier}" if isinstance(plain, LuksVolume) else "",
        )
    if not found:
        raise refused[0]
    return viewed, found


def needs_no_key(source: Source, volumes: Sequence[Volume]) -> bool:
    """Whether one of the locked volumes keeps its own key in the open."""
    return any(_is_open(source, volume) for volume in volumes)


def _is_open(source: Source, volume: Volume) -> bool:
    if volume.filesystem is not FilesystemKind.ENCRYPTED:
        return False
    try:
        head = fve_head(source, volume)
    except ReadError:  # a damaged place is told where the volume is looked at
        return False
    return head is not None and is_open(head)


def _unlocked(source: Source, volume: Volume, secret: bytes | None) -> LuksVolume | FveVolume:
    if volume.filesystem is FilesystemKind.ENCRYPTED:
        return unlock_fve(source, volume, secret)
    return unlock_luks(source, volume, secret or b"")
