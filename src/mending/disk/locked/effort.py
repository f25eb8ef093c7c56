"""What trying a key costs, before it is tried.

A head says how hard a key is to be stretched, and a hostile one may ask for hours and for all the
memory there is. So the work is estimated from what the head says and from how quick this machine is
at a small piece of the same work (PBKDF2: RFC 8018, 5.2, work grows with iterations and with blocks
of output; Argon2: RFC 9106, 3.1, with memory times passes), added up over a command, and beyond a
bound somebody has to allow it.
"""

import hashlib
import time
from collections.abc import Callable
from functools import lru_cache

import msgspec

from mending.disk.locked.sector_cipher import EXTRA
from mending.formats.encryption.luks import KeyDigest, KeySlot, LuksHead
from mending.model import RefusedError, load_extra, plain_size

FVE_ITERATIONS = 1 << 20
"""That every password of the nt family's own encryption is stretched by (SHA-256)."""
_MOST_SECONDS, _MOST_SHARE = 10.0, 4
"""Beyond so many seconds, or a fourth of the memory, somebody is asked."""
_USUAL_WAYS = 4
"""Protectors that a volume has at most: of the machine, a password, digits, a key file."""
_TRIED, _TRIED_KIB = 20_000, 8 << 10
_KIB = 1024


class GivenKey(msgspec.Struct, frozen=True):
    """A key that somebody gave, and what it may cost.

    Attributes:
        secret: a passphrase, digits or the bytes of a key file.
        memory: bytes of this machine, 0 where nobody knows.
        allow: is told in a sentence what trying the key costs, and says whether it may; None where
            nobody can be asked.
        patient: anything may be tried.
    """

    secret: bytes
    memory: int = 0
    allow: Callable[[str], bool] | None = None
    patient: bool = False


class Effort(msgspec.Struct, frozen=True):
    """Seconds, and bytes of memory at once."""

    seconds: float
    memory: int = 0


def effort_of_head(head: LuksHead) -> Effort:
    """What trying a key on every slot costs at most."""
    slots = [_of_slot(slot) for slot in head.slots]
    checks = [_of_digest(digest) * max(len(head.slots), 1) for digest in head.digests]
    seconds = sum(each.seconds for each in slots) + sum(checks)
    return Effort(seconds, max((each.memory for each in slots), default=0))


def effort_of_fve(ways: int) -> Effort:
    """What trying a password on so many protectors costs. How hard each is stretched is part of the
    format, so a volume as its owner has it costs what it must; only a head with more protectors
    than anybody makes costs more.
    """
    return Effort(max(ways - _USUAL_WAYS, 0) * FVE_ITERATIONS * _hash_seconds())


def refuse_beyond(key: GivenKey, effort: Effort, number: int, allowed: float) -> float:
    """Ask where trying a key costs much.

    Args:
        effort: of everything that this command has tried and is about to try.
        number: of the volume.
        allowed: seconds that were allowed already.

    Returns:
        seconds that are allowed from now on.

    Raises:
        RefusedError: nobody allowed it.
    """
    too_large = key.memory > 0 and effort.memory * _MOST_SHARE > key.memory
    if key.patient or (effort.seconds <= max(_MOST_SECONDS, allowed) and not too_large):
        return allowed
    memory = f" and {plain_size(effort.memory)} of memory" if effort.memory else ""
    says = f"Trying this key on volume {number} takes about {_shown(effort.seconds)}{memory}."
    if key.allow is None or not key.allow(says):
        raise RefusedError(says, "If that is what you want, add --patient.")
    return effort.seconds * 2


def _of_slot(slot: KeySlot) -> Effort:
    stretch = slot.stretch
    if stretch.kind == "pbkdf2":
        blocks = -(-max(slot.area_key_bytes, 1) // 32)
        return Effort(stretch.cost * blocks * _pbkdf2_seconds(stretch.hash))
    kib = max(stretch.memory, 1)
    return Effort(kib * max(stretch.cost, 1) * _argon2_seconds(), kib * _KIB)


def _of_digest(digest: KeyDigest) -> float:
    return digest.cost * _pbkdf2_seconds(digest.hash)


@lru_cache(8)
def _pbkdf2_seconds(named: str) -> float:
    """Of one iteration; 0 for a hash that is not tried."""
    if named not in hashlib.algorithms_guaranteed:
        return 0.0
    began = time.perf_counter()
    try:
        hashlib.pbkdf2_hmac(named, b"quay", b"desk", _TRIED)
    except ValueError:
        return 0.0
    return (time.perf_counter() - began) / _TRIED


@lru_cache(1)
def _argon2_seconds() -> float:
    """Of one pass over one KiB."""
    low_level = load_extra("argon2.low_level", EXTRA)
    began = time.perf_counter()
    low_level.hash_secret_raw(
        b"quay", b"desk-desk", 1, _TRIED_KIB, 1, hash_len=32, type=low_level.Type.ID
    )
    return (time.perf_counter() - began) / _TRIED_KIB


@lru_cache(1)
def _hash_seconds() -> float:
    """Of one SHA-256 of a short text."""
    began, data = time.perf_counter(), bytes(88)
    for _ in range(_TRIED):
        data = hashlib.sha256(data[:88]).digest() + bytes(56)
    return (time.perf_counter() - began) / _TRIED


def _shown(seconds: float) -> str:
    if seconds < 120:
        return f"{seconds:.0f} s"
    if seconds < 7200:
        return f"{seconds / 60:.0f} min"
    return f"{seconds / 3600:.0f} h"
