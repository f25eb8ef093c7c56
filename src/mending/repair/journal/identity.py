"""By what a target is known again, so that a point is never put back on another one.

Three things are kept. The size and the serial number of the device. Where its *identifiers* stand
(of the table and of each file system) and their hashes: no use of the disk changes them, and two
disks that are no copies of each other differ in them. And the hashes of some ranges of *content*
that are not zero: they tell copies of one disk apart. All must agree. Content may change where the
disk was used in between; then the person has to say so.
"""

import hashlib
from collections.abc import Iterable, Sequence
from itertools import islice

import msgspec

from mending.disk.layout import Disk
from mending.model import Change, FileChange, Patch
from mending.source import IdentityPart, Target

_SIGNATURE = IdentityPart(440, 4)
"""Of the disk, in its MBR."""
_GUID_AT, _GUID_BYTES = 56, 16
"""Of the disk, in a header of a GPT."""
_MOST_VOLUMES = 32


class KnownRange(msgspec.Struct, frozen=True):
    """A range, or with `path` a whole file, that the repair does not touch, and its hash."""

    offset: int
    length: int
    sha256: str
    path: str = ""
    identifier: bool = False


class Identity(msgspec.Struct, frozen=True):
    """How a target is known again; `path` is for people."""

    path: str
    bytes: int
    serial: str
    ranges: tuple[KnownRange, ...]


def identifiers_of(disk: Disk | None) -> tuple[IdentityPart, ...]:
    """Where the identifiers of a disk stand: of the table, and of each file system on it."""
    if disk is None:
        return ()
    parts = [_SIGNATURE]
    if disk.gpt is not None:
        size = disk.source.bytes_per_sector
        parts += [
            IdentityPart(sector * size + _GUID_AT, _GUID_BYTES) for sector in (1, disk.sectors - 1)
        ]
    for volume in islice(disk.volumes, _MOST_VOLUMES):
        at, length = volume.kind.identifier
        if length and at + length <= volume.bytes:
            parts.append(IdentityPart(volume.offset + at, length))
    return tuple(parts)


def identity_of(
    target: Target, changes: Sequence[Change], identifiers: Iterable[IdentityPart]
) -> Identity:
    """What a target is known by; what cannot be read, is zero or will be changed is left out."""
    known = [part for part in identifiers if not any(_touches(change, part) for change in changes)]
    ranges = [*_hashed(target, known, identifier=True)]
    ranges += _hashed(target, target.identity_parts(changes), identifier=False)
    return Identity(target.path, target.size, target.serial, tuple(ranges))


def is_known_by(identity: Identity) -> bool:
    """Whether there is anything at all that tells the target from others."""
    return bool(identity.serial or identity.ranges)


def fault_of(identity: Identity, target: Target, later: Iterable[Change] = ()) -> tuple[str, bool]:
    """Why a target is not the one that was kept; empty where it is.

    Args:
        later: changes that later repairs made to it; what they touched says nothing.

    Returns:
        what is wrong, and whether no more than content is: that may come of use.
    """
    if (identity.bytes, identity.serial) != (target.size, target.serial):
        return "its size or serial number is another one", False
    if not is_known_by(identity):
        return "nothing was kept that it could be known by", False
    changes = list(later)
    asked = [
        known
        for known in identity.ranges
        if not any(_touches(change, _part(known)) for change in changes)
    ]
    if identity.ranges and not asked:
        return "later repairs changed all that it could be known by", False
    other = [known for known in asked if not _agrees(known, target)]
    if any(known.identifier for known in other):
        return "its identifiers are others", False
    if other:
        return f"{len(other)} of {len(asked)} places on it hold something else", True
    return "", False


def sha256(data: bytes) -> str:
    """Hash of some bytes in hex."""
    return hashlib.sha256(data).hexdigest()


def _hashed(
    target: Target, parts: Iterable[IdentityPart], *, identifier: bool
) -> Iterable[KnownRange]:
    for part in parts:
        data = target.content_of(part)
        if data and data.strip(b"\0"):
            yield KnownRange(part.offset, part.length, sha256(data), part.path, identifier)


def _agrees(known: KnownRange, target: Target) -> bool:
    data = target.content_of(_part(known))
    return data is not None and sha256(data) == known.sha256


def _part(known: KnownRange) -> IdentityPart:
    return IdentityPart(known.offset, known.length, known.path)


def _touches(change: Change, part: IdentityPart) -> bool:
    if isinstance(change, FileChange):
        return change.path == part.path
    patch: Patch = change
    return not part.path and patch.offset < part.offset + part.length and part.offset < patch.end
