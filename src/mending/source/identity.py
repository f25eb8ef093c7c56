"""By what a target is known again: undo points, cases and copies never take another one for it.

Three things are kept. The size and the serial number of the device. Where its *identifiers* stand
(of the table and of each file system) and their hashes: no use of the disk changes them, and two
disks that are no copies of each other differ in them. And the hashes of some ranges of *content*
that are not zero: they tell copies of one disk apart. All must agree. Content may change where the
disk was used in between; then the person has to say so.
"""

import hashlib
import os
import stat
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

import msgspec

from mending.model import Change, FileChange, Patch
from mending.source.base import IdentityPart, Target


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


class Difference(NamedTuple):
    """Why a target is not the one that was kept.

    Attributes:
        says: what is wrong; empty where nothing is.
        by_use: no more than content is: that may come of use.
        whole: nothing that it was known by is as it was.
    """

    says: str
    by_use: bool
    whole: bool = False


def fault_of(identity: Identity, target: Target, later: Iterable[Change] = ()) -> Difference:
    """Why a target is not the one that was kept; empty where it is.

    Args:
        later: changes that later repairs made to it; what they touched says nothing.
    """
    if (identity.bytes, identity.serial) != (target.size, target.serial):
        return Difference("its size or serial number is another one", False)
    if not is_known_by(identity):
        return Difference("nothing was kept that it could be known by", False)
    changes = list(later)
    asked = [
        known
        for known in identity.ranges
        if not any(_touches(change, _part(known)) for change in changes)
    ]
    if identity.ranges and not asked:
        return Difference("later repairs changed all that it could be known by", False)
    other = [known for known in asked if not _agrees(known, target)]
    if any(known.identifier for known in other):
        return Difference("its identifiers are others", False)
    if other:
        says = f"{len(other)} of {len(asked)} places on it hold something else"
        return Difference(says, True, len(other) == len(identity.ranges))
    return Difference("", False)


def place_of(target: Target) -> str:
    """Which of several targets with the same identity this one is: a copy of an image has all that
    the image is known by, but it is another file.
    """
    if target.serial:
        return f"drive {target.serial}"
    try:
        info = Path(target.path).stat()
    except OSError:
        return target.path  # it is in memory, or gone
    if stat.S_ISBLK(info.st_mode):
        return f"device {os.path.realpath(target.path)}"
    return f"file {info.st_dev}:{info.st_ino}"


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
