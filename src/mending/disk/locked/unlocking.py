"""A LUKS volume unlocked by a passphrase or the bytes of a key file."""

import hashlib
import hmac
import re
import struct
import time
from collections.abc import Callable, Iterator
from functools import lru_cache
from itertools import pairwise

import msgspec

from mending.disk.locked.ciphers import EXTRA, DiffusedCipher, PlainVolume, SectorCipher
from mending.disk.volume import Volume, fve_head
from mending.formats import fve
from mending.formats.fve import ChunkMap, Entry, FveHead, MapDescription, Protector
from mending.formats.luks import CryptSegment, KeyDigest, KeySlot, LuksHead
from mending.model import InputError, RefusedError, UsageError, load_extra, plain_size
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


# An encrypted volume of the nt family unlocked: by a password, a recovery key of 48 digits, a key
# file, or the open key of one that is suspended.
#
# Keys are locked by AES-CCM; a password or a recovery key is stretched by a million rounds of
# SHA-256 over the last value, the first one, a salt and a counter (public descriptions of the
# format).


_ROUNDS = 1 << 20
_DIGITS = re.compile(r"(\d{6})[- ]?" * 7 + r"(\d{6})")
_PART, _MOST_PART = 11, 1 << 16
_NONCE, _TAG, _KEY_AT = 12, 16, 12
_OLD_HEAD = 0x2000
_MIRROR_AT, _NAME_AT, _NAME = 56, 3, b"NTFS    "


class ChunkMaps(msgspec.Struct, frozen=True):
    """Which chunks of a volume are encrypted. `chunk` is their size in bytes; `reserved` what the
    maps take up, offset and length.
    """

    chunk: int
    regions: tuple[ChunkMap, ...]
    reserved: tuple[tuple[int, int], ...]


class FveVolume(PlainVolume):
    """An encrypted volume of the nt family. What the encryption keeps for itself is zeros."""

    def __init__(
        self, source: Source, volume: Volume, head: FveHead, key: bytes, maps: ChunkMaps | None
    ) -> None:
        super().__init__(source, volume.offset, volume.bytes, head.sector, head.identifier)
        self._head, self._maps = head, maps
        self._cipher = _cipher(head, key)
        self._reserved = (*head.reserved, *(maps.reserved if maps is not None else ()))
        self._unit = 1 if "cbc" in fve.METHODS[head.method] else head.sector

    def _plain(self, first: int, last: int) -> bytes:
        return b"".join(self._piece(*run) for run in self._runs(first, last))

    def _piece(self, start: int, end: int) -> bytes:
        """Plain bytes of whole sectors that are kept in one way."""
        head = self._head
        if head.version == 1 and start < _OLD_HEAD:
            data = self._source.read(self._start + start, end - start).data
            return _as_it_was(data, head) if start == 0 else data
        if start < head.moved[1]:
            start, end = start + head.moved[0], end + head.moved[0]
        elif any(at <= start < at + length for at, length in self._reserved):
            return bytes(end - start)
        return b"".join(self._decrypted(*part) for part in self._parts(start, end))

    def _encrypted(self, first: int, plain: bytes) -> Iterator[tuple[int, bytes]]:
        head = self._head
        for start, end in self._runs(first, first + len(plain)):
            piece, at = plain[start - first : end - first], start
            own = head.version == 1 and start < _OLD_HEAD
            if own or any(begin <= start < begin + size for begin, size in self._reserved):
                if piece != self._piece(start, end):
                    raise RefusedError("A place where the lock keeps its own head is not changed.")
                continue
            if start < head.moved[1]:
                at = start + head.moved[0]
            for low, high, encrypted in self._parts(at, at + len(piece)):
                part = piece[low - at : high - at]
                sealed = self._cipher.encrypt(part, low // self._unit) if encrypted else part
                yield self._start + low, sealed

    def _decrypted(self, start: int, end: int, encrypted: bool) -> bytes:
        data = self._source.read(self._start + start, end - start).data
        return self._cipher.decrypt(data, start // self._unit) if encrypted else data

    def _runs(self, start: int, end: int) -> Iterator[tuple[int, int]]:
        """Cut where bytes begin to be kept in another way."""
        head = self._head
        edges = {edge for at, length in self._reserved for edge in (at, at + length)}
        edges |= {_OLD_HEAD, head.sector} if head.version == 1 else {head.moved[1]}
        cuts = [start, *sorted(edge for edge in edges if start < edge < end), end]
        yield from pairwise(cuts)

    def _parts(self, start: int, end: int) -> Iterator[tuple[int, int, bool]]:
        """Places as they lie on the disk, and whether they are encrypted."""
        head = self._head
        if head.state == fve.DECRYPTED:
            yield start, end, False
        elif self._maps is not None:
            yield from self._by_map(self._maps, start, end)
        else:
            edge = head.boundary if head.boundary else end
            if start < edge:
                yield start, min(edge, end), True
            if edge < end:
                yield max(start, edge), end, False

    def _by_map(self, maps: ChunkMaps, start: int, end: int) -> Iterator[tuple[int, int, bool]]:
        while start < end:
            region = next(
                (each for each in maps.regions if each.start <= start < each.end),
                None,
            )
            if region is None:  # no map reaches here: nothing was encrypted
                yield start, end, False
                return
            chunk = (start - region.start) // maps.chunk
            edge = min(region.start + (chunk + 1) * maps.chunk, region.end)
            yield start, min(edge, end), region.is_encrypted(chunk)
            start = min(edge, end)


def unlock_fve(source: Source, volume: Volume, secret: bytes | None) -> FveVolume:
    """A volume by one of its protectors.

    Args:
        secret: a password or digits as text, or the bytes of a key file; None for the open key of a
            volume that is suspended, or of one that is not encrypted any more.

    Raises:
        InputError: the key opens none of them, or the head cannot be read.
        UsageError: it is encrypted in a way that is not read here, or the extra is missing.
    """
    head = fve_head(source, volume)
    if head is None:
        raise InputError(f"The head of the encrypted volume {volume.number} cannot be read.")
    if head.state == fve.DECRYPTED:
        head = msgspec.structs.replace(head, method=next(iter(fve.METHODS)))
        return FveVolume(source, volume, head, bytes(64), _maps(source, volume, head))
    if head.method not in fve.METHODS or head.volume_key is None:
        raise UsageError(f"Volume {volume.number} is encrypted in a way that is not read here.")
    maps = _maps(source, volume, head)
    for protector in head.protectors:
        for key in _keys(protector, secret):
            opened = _opened(protector.inside, key)
            whole = _unlocked(head.volume_key, opened) if opened is not None else None
            if whole is not None:
                return FveVolume(source, volume, head, whole, maps)
    says = f"This key opens none of the {len(head.protectors)} ways into volume {volume.number}."
    raise InputError(says, "; ".join(head.says[1:]))


def is_open(head: FveHead) -> bool:
    """Whether no key is needed."""
    ways = {protector.way for protector in head.protectors}
    return head.state == fve.DECRYPTED or fve.CLEAR in ways


def _keys(protector: Protector, secret: bytes | None) -> Iterator[bytes]:
    """What the secret is for a protector; nothing where it is none for it."""
    if protector.way == fve.CLEAR:
        for entry in protector.inside:
            if entry.kind == fve.KEY and len(entry.data) >= 4 + fve.KEY_BYTES:
                yield entry.data[4 : 4 + fve.KEY_BYTES]
    if secret is None:
        return
    if protector.way == fve.EXTERNAL_KEY:
        file = fve.read_key_file(secret)
        if file is not None and file[0] == protector.identifier:
            yield file[1]
    hashed = {fve.PASSWORD: _hashed_password, fve.RECOVERY: _hashed_digits}.get(protector.way)
    first = hashed(secret) if hashed is not None else None
    salt = next((each.data[4:20] for each in protector.inside if each.kind == fve.STRETCH), b"")
    if first is not None and len(salt) == 16:
        yield _fve_unlocking_stretched(first, salt)


def _hashed_password(secret: bytes) -> bytes | None:
    try:
        text = secret.decode().rstrip("\r\n").encode("utf-16-le")
    except UnicodeDecodeError:
        return None
    return hashlib.sha256(hashlib.sha256(text).digest()).digest()


def _hashed_digits(secret: bytes) -> bytes | None:
    """Eight groups of six digits, each eleven times a number of 16 bits."""
    match = _DIGITS.fullmatch(secret.decode("ascii", errors="replace").strip())
    numbers = [int(group) for group in match.groups()] if match else []
    if not numbers or any(each % _PART or each // _PART >= _MOST_PART for each in numbers):
        return None
    return hashlib.sha256(struct.pack("<8H", *(each // _PART for each in numbers))).digest()


def _fve_unlocking_stretched(first: bytes, salt: bytes) -> bytes:
    last, behind, sha = bytes(32), first + salt, hashlib.sha256
    for count in range(_ROUNDS):
        last = sha(last + behind + count.to_bytes(8, "little")).digest()
    return last


def _opened(inside: tuple[Entry, ...], key: bytes) -> bytes | None:
    """The key of keys of a protector."""
    locked = [entry for entry in inside if entry.kind == fve.LOCKED_KEY]
    return next((found for entry in locked if (found := _unlocked(entry, key))), None)


def _unlocked(entry: Entry, key: bytes) -> bytes | None:
    """A key out of an entry; None where the tag says that the other key is a wrong one."""
    load_extra("cryptography", EXTRA)
    from cryptography.exceptions import InvalidTag  # noqa: PLC0415 - lazy: an extra
    from cryptography.hazmat.primitives.ciphers.aead import AESCCM  # noqa: PLC0415

    head = _NONCE + _TAG
    if len(entry.data) <= head + _KEY_AT or len(key) < fve.KEY_BYTES:
        return None
    nonce, tag, data = entry.data[:_NONCE], entry.data[_NONCE:head], entry.data[head:]
    try:
        plain: bytes = AESCCM(key[: fve.KEY_BYTES], _TAG).decrypt(nonce, data + tag, None)
    except InvalidTag:
        return None
    return plain[_KEY_AT:]


def _cipher(head: FveHead, key: bytes) -> SectorCipher | DiffusedCipher:
    method = fve.METHODS[head.method]
    size = 16 if "128" in method else 32
    if "xts" in method:
        return SectorCipher("aes-xts-plain64", key[: 2 * size], head.sector, head.sector)
    if "diffuser" in method and len(key) < 32 + size:
        raise UsageError("A volume whose key is too short for its cipher is not read here.")
    if "diffuser" in method:
        return DiffusedCipher(key[:size], key[32 : 32 + size], head.sector)
    return SectorCipher("aes-cbc-place", key[:size], head.sector, 1)


def _as_it_was(data: bytes, head: FveHead) -> bytes:
    """The first sectors of a volume of the first version, where its own name stood."""
    first = bytearray(data)
    first[_NAME_AT : _NAME_AT + len(_NAME)] = _NAME
    struct.pack_into("<Q", first, _MIRROR_AT, head.mirror)
    return bytes(first)


def _maps(source: Source, volume: Volume, head: FveHead) -> ChunkMaps | None:
    """The maps of a volume that has some.

    Raises:
        InputError: all of their descriptions, or one of the maps, are damaged.
    """
    if not head.maps:
        return None
    for place in head.maps:
        start = volume.offset + place
        described = fve.read_description(source.read(start, fve.DESCRIPTION_BYTES).data)
        if described is None:
            continue
        regions = [
            fve.read_map(source.read(volume.offset + at, fve.MAP_BYTES).data)
            for at in described.places
        ]
        if all(regions):
            sound = tuple(filter(None, regions))
            return ChunkMaps(described.chunk, sound, tuple(_taken(head, described, sound)))
    raise InputError(f"Which parts of volume {volume.number} are encrypted cannot be told.")


def _taken(
    head: FveHead, described: MapDescription, maps: tuple[ChunkMap, ...]
) -> Iterator[tuple[int, int]]:
    """What maps, their descriptions and logs take up, in whole sectors."""
    sector = head.sector
    for place in head.maps:
        yield place, -(-described.size // sector) * sector
    for place, each in zip(described.places, maps, strict=True):
        yield place, each.size // sector * sector
        yield each.log, described.log // sector * sector


# What trying a key costs, before it is tried.
#
# A head says how hard a key is to be stretched, and a hostile one may ask for hours and for all the
# memory there is. So the work is estimated from what the head says and from how quick this machine
# is at a small piece of the same work (PBKDF2: RFC 8018, 5.2, work grows with iterations and with
# blocks of output; Argon2: RFC 9106, 3.1, with memory times passes), added up over a command, and
# beyond a bound somebody has to allow it.


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
