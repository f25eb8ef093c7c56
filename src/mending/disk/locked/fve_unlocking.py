"""An encrypted volume of the nt family unlocked: by a password, a recovery key of 48 digits, a key
file, or the open key of one that is suspended.

Keys are locked by AES-CCM; a password or a recovery key is stretched by a million rounds of SHA-256
over the last value, the first one, a salt and a counter (public descriptions of the format).
"""

import hashlib
import re
import struct
from collections.abc import Iterator
from itertools import pairwise

import msgspec

from mending.disk.locked.diffuser import DiffusedCipher
from mending.disk.locked.plain_volume import PlainVolume
from mending.disk.locked.sector_cipher import EXTRA, SectorCipher
from mending.disk.volume import Volume, fve_head
from mending.formats.encryption import fve
from mending.formats.encryption.chunk_maps import ChunkMap, MapDescription
from mending.formats.encryption.fve import Entry, FveHead, Protector
from mending.model import InputError, RefusedError, UsageError, load_extra
from mending.source import Source

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
        yield _stretched(first, salt)


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


def _stretched(first: bytes, salt: bytes) -> bytes:
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
    from mending.formats.encryption import chunk_maps  # noqa: PLC0415 - few volumes have them

    for place in head.maps:
        start = volume.offset + place
        described = chunk_maps.read_description(
            source.read(start, chunk_maps.DESCRIPTION_BYTES).data
        )
        if described is None:
            continue
        regions = [
            chunk_maps.read_map(source.read(volume.offset + at, chunk_maps.MAP_BYTES).data)
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
