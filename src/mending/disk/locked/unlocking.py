"""A LUKS volume unlocked by a passphrase or the bytes of a key file."""

import hashlib
import hmac
import struct
from collections.abc import Iterator

from mending.disk.locked.plain_volume import PlainVolume
from mending.disk.locked.sector_cipher import EXTRA, SectorCipher
from mending.disk.volume import Volume
from mending.formats.encryption.luks import CryptSegment, KeyDigest, KeySlot, LuksHead
from mending.model import InputError, UsageError, load_extra
from mending.source import Source

_MOST_COST, _MOST_PASSES, _MOST_MEMORY, _MOST_STRIPES = 100_000_000, 64, 4 << 20, 16_384
"""Iterations of PBKDF2, passes and KiB of Argon2, stripes: a hostile head may ask for no more."""
_LONGEST_KEY, _SECTOR = 64, 512
_PIECE = 1 << 20


class LuksVolume(PlainVolume):
    """A LUKS volume."""

    def __init__(
        self, source: Source, volume: Volume, head: LuksHead, segment: CryptSegment, key: bytes
    ) -> None:
        left = max(volume.bytes - segment.offset, 0)
        size = min(segment.bytes, left) if segment.bytes else left
        start = volume.offset + segment.offset
        self._cipher = SectorCipher(segment.cipher, key, segment.sector)
        super().__init__(source, start, size, segment.sector, head.identifier)
        self._first = segment.first

    def _plain(self, first: int, last: int) -> bytes:
        data = self._source.read(self._start + first, last - first).data
        return self._cipher.decrypt(data, self._first + first // _SECTOR)

    def _encrypted(self, first: int, plain: bytes) -> Iterator[tuple[int, bytes]]:
        sealed = self._cipher.encrypt(plain, self._first + first // _SECTOR)
        yield self._start + first, sealed


def luks_key(source: Source, volume: Volume, head: LuksHead, secret: bytes) -> bytes:
    """The key of a volume, by one of its key slots.

    Raises:
        InputError: the secret opens none of them.
        UsageError: it is encrypted in a way that is not read here, or the extra is missing.
    """
    if head.segment is None:
        raise UsageError(f"Volume {volume.number} is encrypted in a way that is not read here.")
    for slot in head.slots:
        for digest in head.digests:
            if slot.number not in digest.slots:
                continue
            key = _volume_key(source, volume, slot, secret)
            if key is not None and _is_right(digest, key):
                return key
    raise InputError(
        f"This key opens none of the {len(head.slots)} key slots of volume {volume.number}."
    )


def _volume_key(source: Source, volume: Volume, slot: KeySlot, secret: bytes) -> bytes | None:
    """What a slot gives for a secret, right or wrong; None for a slot that makes no sense."""
    sound = (
        0 < slot.key_bytes <= _LONGEST_KEY
        and 0 < slot.area_key_bytes <= _LONGEST_KEY
        and 0 < slot.stripes <= _MOST_STRIPES
    )
    area_key = _stretched(slot, secret) if sound else None
    if area_key is None:
        return None
    length = slot.key_bytes * slot.stripes
    whole = -(-length // _SECTOR) * _SECTOR
    data = source.read(volume.offset + slot.offset, whole).data
    if len(data) < whole:
        return None
    plain = SectorCipher(slot.cipher, area_key).decrypt(data, 0)[:length]
    return _merged(plain, slot)


def _stretched(slot: KeySlot, secret: bytes) -> bytes | None:
    stretch = slot.stretch
    if stretch.kind == "pbkdf2":
        if stretch.hash not in hashlib.algorithms_guaranteed or not 0 < stretch.cost <= _MOST_COST:
            return None
        return hashlib.pbkdf2_hmac(
            stretch.hash, secret, stretch.salt, stretch.cost, slot.area_key_bytes
        )
    bounds = 0 < stretch.cost <= _MOST_PASSES and 8 <= stretch.memory <= _MOST_MEMORY
    if (
        stretch.kind not in {"argon2i", "argon2id"}
        or not bounds
        or not 0 < stretch.lanes <= _LONGEST_KEY
    ):
        return None
    low_level = load_extra("argon2.low_level", EXTRA)
    kind = low_level.Type.I if stretch.kind == "argon2i" else low_level.Type.ID
    try:
        key: bytes = low_level.hash_secret_raw(
            secret,
            stretch.salt,
            time_cost=stretch.cost,
            memory_cost=stretch.memory,
            parallelism=stretch.lanes,
            hash_len=slot.area_key_bytes,
            type=kind,
        )
    except low_level.HashingError:  # numbers that it does not take
        return None
    return key


def _merged(stripes: bytes, slot: KeySlot) -> bytes | None:
    """The key out of its stripes (LUKS specification 1.2.3, 2.4: anti-forensic splitter)."""
    if slot.hash not in hashlib.algorithms_guaranteed or "shake" in slot.hash:
        return None
    size, held = slot.key_bytes, bytes(slot.key_bytes)
    for number in range(slot.stripes - 1):
        held = b"".join(
            _spread(_xor(held, stripes[number * size : (number + 1) * size]), slot.hash)
        )
    return _xor(held, stripes[(slot.stripes - 1) * size :])


def _spread(data: bytes, named: str) -> Iterator[bytes]:
    size = hashlib.new(named).digest_size
    for number in range(-(-len(data) // size)):
        block = data[number * size : (number + 1) * size]
        yield hashlib.new(named, struct.pack(">I", number) + block).digest()[: len(block)]


def _xor(one: bytes, other: bytes) -> bytes:
    number = int.from_bytes(one, "big") ^ int.from_bytes(other, "big")
    return number.to_bytes(len(one), "big")


def _is_right(digest: KeyDigest, key: bytes) -> bool:
    if digest.hash not in hashlib.algorithms_guaranteed or not 0 < digest.cost <= _MOST_COST:
        return False
    made = hashlib.pbkdf2_hmac(digest.hash, key, digest.salt, digest.cost, len(digest.value) or 1)
    return hmac.compare_digest(made, digest.value)
