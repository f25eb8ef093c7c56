"""The volumes of a disk that a key opens, as volumes of their own."""

from collections.abc import Sequence

import msgspec

from mending.disk.layout import survey, volume_at, with_arrays
from mending.disk.locked.unlocking import (
    Effort,
    FveVolume,
    GivenKey,
    LuksVolume,
    effort_of_fve,
    effort_of_head,
    is_open,
    luks_key,
    refuse_beyond,
    unlock_fve,
)
from mending.disk.volume import Volume, fve_head, luks_head
from mending.formats.luks import LuksHead
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


class KeyRing:
    """What opens locked volumes, and those that it opened: stretching a key takes seconds, and a
    command may come to a disk many times.

    Args:
        key: None for what needs no key. It is kept nowhere else.
    """

    def __init__(self, key: GivenKey | None) -> None:
        self._key = key
        self._opened: dict[tuple[str, int], LuksVolume | FveVolume] = {}
        self._heads: dict[LuksHead, bytes | InputError] = {}
        self._spent, self._allowed = 0.0, 0.0

    @property
    def is_empty(self) -> bool:
        """Whether there is no key: only volumes that keep theirs in the open can be read."""
        return self._key is None

    def unlocked(self, source: Source, volume: Volume) -> LuksVolume | FveVolume:
        """The plain bytes of a volume.

        Raises:
            InputError: the key opens it not. UsageError: it is locked in a way that is not read.
            RefusedError: trying the key costs much, and nobody allowed it.
        """
        place = source.path, int(volume.offset)
        if place in self._opened:
            return self._opened[place].over(source)
        if volume.filesystem is FilesystemKind.ENCRYPTED:
            self._opened[place] = self._fve(source, volume)
        else:
            self._opened[place] = self._luks(source, volume)
        return self._opened[place]

    def _fve(self, source: Source, volume: Volume) -> FveVolume:
        head = fve_head(source, volume)
        if head is not None and not is_open(head):
            self._spend(effort_of_fve(len(head.protectors)), volume)
        return unlock_fve(source, volume, self._key.secret if self._key is not None else None)

    def _luks(self, source: Source, volume: Volume) -> LuksVolume:
        """A head that stands at several places, as a search finds them, is tried once."""
        head = luks_head(source, volume)
        if head is None:
            raise InputError(f"The head of the encrypted volume {volume.number} cannot be read.")
        if head not in self._heads:
            self._spend(effort_of_head(head), volume)
            secret = self._key.secret if self._key is not None else b""
            try:
                self._heads[head] = luks_key(source, volume, head, secret)
            except InputError as error:
                self._heads[head] = error
        key = self._heads[head]
        if isinstance(key, InputError):
            raise key
        assert head.segment is not None
        return LuksVolume(source, volume, head, head.segment, key)

    def _spend(self, effort: Effort, volume: Volume) -> None:
        if self._key is not None:
            whole = Effort(self._spent + effort.seconds, effort.memory)
            self._allowed = refuse_beyond(self._key, whole, volume.number, self._allowed)
            self._spent = whole.seconds


def key_ring(key: GivenKey | None) -> KeyRing | None:
    """What a key opens; None where there is none."""
    return KeyRing(key) if key is not None else None


def with_unlocked_volumes(
    source: Source, volumes: Sequence[Volume], keys: KeyRing
) -> tuple[Source, dict[int, Volume]]:
    """What is inside locked volumes, by the number of the volume that holds it, and the source to
    read all by. Raises as `plain_volumes`.
    """
    viewed = source if isinstance(source, ViewedSource) else ViewedSource(source)
    found = dict[int, Volume]()
    for volume, plain in plain_volumes(source, volumes, keys):
        offset, sector = viewed.add(plain.read, plain.sealed), source.bytes_per_sector
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
    return (viewed if found else source), found


def plain_volumes(
    source: Source, volumes: Sequence[Volume], keys: KeyRing
) -> list[tuple[Volume, LuksVolume | FveVolume]]:
    """Locked volumes with their plain bytes. Without a key, what keeps its own in the open is
    opened, and nothing is raised.

    Raises:
        UsageError: no volume is locked, or in a way that is not read here; or an extra is missing.
        InputError: the key opens none of them.
    """
    locked = [each for each in volumes if each.filesystem in _KINDS]
    if keys.is_empty:
        locked = [each for each in locked if _is_open(source, each)]
    elif not locked:
        raise UsageError("No volume here is locked in a way that is read.", "Leave the key out.")
    found, refused = list[tuple[Volume, LuksVolume | FveVolume]](), list[InputError]()
    for volume in locked:
        try:
            found.append((volume, keys.unlocked(source, volume)))
        except InputError as error:
            refused.append(error)
        except UsageError:
            if not keys.is_empty:
                raise
            # it stays locked; what it says of itself is shown with it
    if not found and refused and not keys.is_empty:
        raise refused[0]
    return found


def volumes_of(source: Source, keys: KeyRing | None) -> tuple[Source, list[Volume]]:
    """The volumes of a disk, then its arrays, then what is inside locked ones, and the source to
    read all by.

    Raises:
        InputError, UsageError: it is no disk, or the key opens nothing.
    """
    listed = survey(source).volumes
    source, arrays = with_arrays(source, listed)
    volumes = [*listed, *(array.volume for array in arrays if array.volume is not None)]
    if not any(each.encrypted for each in volumes) and (keys is None or keys.is_empty):
        return source, volumes
    viewed, inside = with_unlocked_volumes(source, volumes, keys or KeyRing(None))
    return viewed, [*volumes, *inside.values()]


def _is_open(source: Source, volume: Volume) -> bool:
    if volume.filesystem is not FilesystemKind.ENCRYPTED:
        return False
    try:
        head = fve_head(source, volume)
    except ReadError:  # a damaged place is told where the volume is looked at
        return False
    return head is not None and is_open(head)
