"""Sectors turned into plain bytes, many at once: AES in XTS and in CBC, with a diffuser or without.

The modes are made out of single blocks (ECB), all blocks of all sectors in one call; what the modes
add to that is worked out for all sectors together.

Sources: IEEE 1619-2018 (XTS-AES; the tweak is doubled from block to block in GF(2^128)); NIST SP
800-38A 6.2 (CBC); Linux 6.1, `drivers/md/dm-crypt.c` (`plain`, `plain64`, `essiv`: how a sector's
number becomes its first value; numbers count 512 bytes). Volumes of the nt family encrypt the place
of a sector in bytes (`place`); what the diffuser does: `diffuser.py`.
"""

import hashlib
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterator
from copy import copy
from typing import TYPE_CHECKING, Self

from mending.model import UsageError, load_extra, load_numpy
from mending.source import Source

if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Blocks = npt.NDArray[np.uint64]
    """Two numbers of 64 bits a block of 16 bytes, little-endian."""

_BLOCK, _UNIT = 16, 512
TOGETHER = 512 << 10
"""Bytes that are decrypted at once."""
_XTS_KEYS, _CBC_KEYS = {32, 64}, {16, 24, 32}
_MOST_DOUBLINGS = 32
"""At once. What leaves at the top comes back times x^7 + x^2 + x + 1 (the polynomial of GF(2^128)),
for which there must be room in 64 bits.
"""
EXTRA = "unlock"


class SectorCipher:
    """Decrypts and encrypts whole sectors.

    Args:
        cipher: as headers name it, such as `aes-xts-plain64`; `aes-cbc-place` is that of the nt
            family.
        sector: bytes that belong together; `unit`: bytes that numbers of sectors count.

    Raises:
        UsageError: a cipher that is not read here, or the extra is missing.
    """

    def __init__(self, cipher: str, key: bytes, sector: int = _UNIT, unit: int = _UNIT) -> None:
        name, _, rest = cipher.partition("-")
        mode, _, self._start = rest.partition("-")
        kinds = _XTS_KEYS if mode == "xts" else _CBC_KEYS
        sound = name == "aes" and mode in {"xts", "cbc"} and len(key) in kinds
        if not sound or sector % _UNIT or not _UNIT <= sector <= 4096:
            raise UsageError(f"Volumes encrypted by {cipher} are not read here.")
        half = len(key) // 2
        self._xts, self._sector, self._unit = mode == "xts", sector, unit
        data_key = key[:half] if self._xts else key
        self._blocks = turned(data_key, encrypt=False)
        self._sealing = turned(data_key, encrypt=True)
        self._first = self._first_by(key[half:] if self._xts else data_key, cipher)

    def _first_by(self, key: bytes, cipher: str) -> Callable[[bytes], bytes]:
        """What makes the first value of a sector out of its number."""
        kind, _, named = self._start.partition(":")
        if self._xts and kind in {"plain", "plain64"}:
            return turned(key, encrypt=True)
        if not self._xts and kind in {"plain", "plain64"}:
            return bytes
        if not self._xts and kind == "place":
            return turned(key, encrypt=True)
        if not self._xts and kind == "essiv" and named in hashlib.algorithms_guaranteed:
            return turned(hashlib.new(named, key).digest(), encrypt=True)
        raise UsageError(f"Volumes encrypted by {cipher} are not read here.")

    def decrypt(self, data: bytes, first: int) -> bytes:
        """Plain bytes of whole sectors. Args: first: number of the first one, in units."""
        return in_runs(self.decrypt_run, data, first, TOGETHER, self._unit)

    def decrypt_run(self, data: bytes, first: int) -> bytes:
        """The same, all at once."""
        np = load_numpy()
        starts, given = self._laid_out(data, first)
        if self._xts:
            tweaks = _doubled(starts, given.shape[1])
            plain = np.frombuffer(self._blocks((given ^ tweaks).tobytes()), "<u8")
            return _bytes_of(plain.reshape(given.shape) ^ tweaks)
        # each block over the one before it, of all sectors as one row; then the first of each
        turned_back = np.frombuffer(self._blocks(data[: given.nbytes]), "<u8").reshape(given.shape)
        made = np.empty_like(given)
        np.bitwise_xor(turned_back.ravel()[2:], given.ravel()[:-2], made.ravel()[2:])
        np.bitwise_xor(turned_back[:, 0], starts, made[:, 0])
        return _bytes_of(made)

    def encrypt(self, data: bytes, first: int) -> bytes:
        """The other way round, for the few sectors that a repair changes."""
        np = load_numpy()
        starts, given = self._laid_out(data, first)
        if self._xts:
            tweaks = _doubled(starts, given.shape[1])
            sealed = np.frombuffer(self._sealing((given ^ tweaks).tobytes()), "<u8")
            return _bytes_of(sealed.reshape(given.shape) ^ tweaks)
        made, last = np.empty_like(given), starts
        for number in range(given.shape[1]):  # each block hangs on the one before it
            mixed = (given[:, number, :] ^ last).tobytes()
            last = np.frombuffer(self._sealing(mixed), "<u8").reshape(last.shape)
            made[:, number, :] = last
        return _bytes_of(made)

    def _laid_out(self, data: bytes, first: int) -> "tuple[Blocks, Blocks]":
        """The first value of each sector, and the blocks of whole sectors."""
        np = load_numpy()
        count, blocks = len(data) // self._sector, self._sector // _BLOCK
        numbers = np.zeros((count, 2), "<u8")
        numbers[:, 0] = first + np.arange(count, dtype=np.uint64) * (self._sector // self._unit)
        if self._start == "plain":
            numbers[:, 0] &= 0xFFFFFFFF
        starts: Blocks = np.frombuffer(self._first(numbers.tobytes()), "<u8").reshape(count, 2)
        cut = data[: count * self._sector]
        given: Blocks = np.frombuffer(cut, "<u8").reshape(count, blocks, 2)
        return starts, given


def in_runs(
    decrypt: Callable[[bytes, int], bytes], data: bytes, first: int, most: int, unit: int
) -> bytes:
    """Decrypt run by run. What is worked on fits into the processor's cache then, and the memory
    for it is used again instead of asked for anew. (Runs on two processors at once were slower: the
    steps are too short for that.)

    Args:
        first: number of the first sector, in units of so many bytes.
        most: bytes of a run; whole sectors.
    """
    if len(data) <= most:
        return decrypt(data, first)
    parts = range(0, len(data), most)
    return b"".join(decrypt(data[at : at + most], first + at // unit) for at in parts)


def _bytes_of(blocks: "Blocks") -> bytes:
    return blocks.tobytes()


def _doubled(starts: "Blocks", blocks: int) -> "Blocks":
    """The tweak of every block, shape (sectors, blocks, 2): each is twice the one before it. So
    many as are known, doubled as often as they are many, are the next ones.
    """
    np = load_numpy()
    tweaks: Blocks = np.empty((len(starts), blocks, 2), "<u8")
    tweaks[:, 0] = starts
    known = 1
    while known < blocks:
        step = min(known, _MOST_DOUBLINGS)
        upto = min(known + step, blocks)
        _times(tweaks[:, known - step : upto - step], step, tweaks[:, known:upto])
        known = upto
    return tweaks


def _times(tweaks: "Blocks", doublings: int, made: "Blocks") -> None:
    """Tweaks doubled so many times at once: shifted, and what leaves at the top, times the
    polynomial, put in at the bottom.
    """
    np = load_numpy()
    left, right = np.uint64(doublings), np.uint64(64 - doublings)
    low, high = tweaks[..., 0], tweaks[..., 1]
    out = high >> right
    back = out ^ (out << np.uint64(1)) ^ (out << np.uint64(2)) ^ (out << np.uint64(7))
    made[..., 1] = (high << left) | (low >> right)
    made[..., 0] = (low << left) ^ back


def turned(key: bytes, *, encrypt: bool) -> Callable[[bytes], bytes]:
    """Turns all blocks of some bytes, each by itself."""
    load_extra("cryptography", EXTRA)
    from cryptography.hazmat.primitives.ciphers import (  # noqa: PLC0415 - lazy: an extra
        Cipher,
        algorithms,
        modes,
    )

    cipher = Cipher(algorithms.AES(key), modes.ECB())

    def turn(data: bytes) -> bytes:
        engine = cipher.encryptor() if encrypt else cipher.decryptor()
        return engine.update(data) + engine.finalize()

    return turn


# The diffuser of older encrypted volumes of the nt family: over the plain bytes of a sector every
# bit is spread before AES-CBC comes, so that nobody can change a few of them.
#
# A sector is a ring of 32-bit words. A layer goes round it: each word grows by the exclusive or of
# two others, one of them turned left; the second layer looks the other way. Last, a key of the
# sector is laid over: two blocks of its place, encrypted by a key of its own. Source: the maker's
# published paper on this cipher (2006), section 4.


if TYPE_CHECKING:
    import numpy as np
    import numpy.typing as npt

    Words = npt.NDArray[np.uint32]
    """Words of sectors, shape (words of a sector, sectors)."""

_FORWARD = (3, 2, 5, (0, 10, 0, 25))
_BACKWARD = (5, -2, -5, (9, 0, 13, 0))
"""Rounds; how far off the two other words are; bits by which the second is turned, in turn."""
_TOGETHER = 4 * TOGETHER
"""Bytes that are undone at once: a row of words is one step for all of their sectors."""
_SECOND = 0x80
"""Last byte of the place in the second block of a sector's key."""


class DiffusedCipher:
    """Decrypts and encrypts whole sectors. Raises UsageError where the extra is missing.

    Args:
        key: that of AES-CBC; `spread_key` that of the sector's key.
    """

    def __init__(self, key: bytes, spread_key: bytes, sector: int) -> None:
        self._cbc = SectorCipher("aes-cbc-place", key, sector, 1)
        self._spread, self._sector = turned(spread_key, encrypt=True), sector

    def decrypt(self, data: bytes, first: int) -> bytes:
        """Plain bytes of whole sectors. Args: first: place of the first one in bytes."""
        return in_runs(self._decrypt_run, data, first, _TOGETHER, 1)

    def _decrypt_run(self, data: bytes, first: int) -> bytes:
        np = load_numpy()
        parts = range(0, len(data), TOGETHER)
        plain = b"".join(
            self._cbc.decrypt_run(data[at : at + TOGETHER], first + at) for at in parts
        )
        words = np.frombuffer(plain, "<u4").reshape(-1, self._sector // 4).T.copy()
        for layer in (_FORWARD, _BACKWARD):
            _undo(words, layer)
        over = self._over(len(words[0]), first).T.copy()
        for at, row in enumerate(words):
            np.bitwise_xor(row, over[at % len(over)], row)
        found: bytes = words.T.tobytes()
        return found

    def encrypt(self, data: bytes, first: int) -> bytes:
        """The other way round, for the few sectors that a repair changes."""
        np = load_numpy()
        over = self._over(len(data) // self._sector, first)
        laid = np.frombuffer(data, "<u4").reshape(len(over), -1, 8) ^ over[:, None, :]
        words = laid.reshape(len(over), -1).T.copy()
        for layer in (_BACKWARD, _FORWARD):
            _do(words, layer)
        return self._cbc.encrypt(words.T.tobytes(), first)

    def _over(self, count: int, first: int) -> "Words":
        """The key of each sector, shape (sectors, 8)."""
        np = load_numpy()
        places = np.zeros((count, 2, 4), "<u4")
        where = first + np.arange(count, dtype=np.uint64) * self._sector
        places[:, :, 0] = (where & 0xFFFFFFFF).astype("<u4")[:, None]
        places[:, :, 1] = (where >> np.uint64(32)).astype("<u4")[:, None]
        places[:, 1, 3] = _SECOND << 24
        found: Words = np.frombuffer(self._spread(places.tobytes()), "<u4").reshape(count, 8)
        return found


def _do(words: "Words", layer: tuple[int, int, int, tuple[int, ...]]) -> None:
    """Lay a layer over, in place: what `_undo` takes back, from the last word to the first."""
    rounds, near, far, turns = layer
    count = len(words)
    for _ in range(rounds):
        for at in reversed(range(count)):
            one, two, turn = words[(at + near) % count], words[(at + far) % count], turns[at % 4]
            turned_two = (two << turn) | (two >> (32 - turn)) if turn else two
            words[at] -= one ^ turned_two


def _undo(words: "Words", layer: tuple[int, int, int, tuple[int, ...]]) -> None:
    """Take a layer back, in place."""
    np = load_numpy()
    rounds, near, far, turns = layer
    rows = list(words)
    count, other, high = len(rows), np.empty_like(rows[0]), np.empty_like(rows[0])
    steps = [
        (rows[at], rows[(at + near) % count], rows[(at + far) % count], turns[at % 4])
        for at in range(count)
    ]
    for _ in range(rounds):
        for row, one, two, turn in steps:
            if turn:
                np.left_shift(two, turn, high)
                np.right_shift(two, 32 - turn, other)
                np.bitwise_or(other, high, other)
                np.bitwise_xor(other, one, other)
            else:
                np.bitwise_xor(two, one, other)
            np.add(row, other, row)


# The plain bytes of an unlocked volume, whatever locked it.


class PlainVolume(ABC):
    """A view of one volume, read in whole sectors.

    Attributes:
        bytes: how many plain ones there are.
        identifier: of the volume that holds them.
    """

    def __init__(self, source: Source, start: int, size: int, sector: int, identifier: str) -> None:
        self._source, self._start, self._sector = source, start, sector
        self.bytes = size // sector * sector
        self.identifier = identifier

    def read(self, offset: int, length: int) -> bytes:
        """Plain bytes; fewer at the end.

        Raises:
            ReadError
        """
        sector = self._sector
        first, last = offset // sector * sector, min(offset + length, self.bytes)
        last = -(-last // sector) * sector
        if offset < 0 or first >= last:
            return b""
        return self._plain(first, last)[offset - first : offset - first + length]

    def sealed(self, offset: int, data: bytes) -> Iterator[tuple[int, bytes, bytes]]:
        """What plain bytes are on the disk: place there, bytes now, bytes afterwards, in whole
        sectors.

        Raises:
            RefusedError: they are kept where the lock itself keeps something. ReadError.
        """
        sector = self._sector
        first, last = offset // sector * sector, -(-(offset + len(data)) // sector) * sector
        plain = bytearray(self._plain(first, last))
        plain[offset - first : offset - first + len(data)] = data
        for place, after in self._encrypted(first, bytes(plain)):
            before = self._source.read(place, len(after)).data
            for start, end in self._unlike(before, after):
                yield place + start, before[start:end], after[start:end]

    def _unlike(self, before: bytes, after: bytes) -> Iterator[tuple[int, int]]:
        """Runs of sectors that are not alike: from where to where."""
        start, sector = None, self._sector
        for at in range(0, len(after), sector):
            same = before[at : at + sector] == after[at : at + sector]
            if start is None and not same:
                start = at
            elif start is not None and same:
                yield start, at
                start = None
        if start is not None:
            yield start, len(after)

    @abstractmethod
    def _encrypted(self, first: int, plain: bytes) -> Iterator[tuple[int, bytes]]:
        """Whole sectors as they are kept on the disk: where, and what."""

    @abstractmethod
    def _plain(self, first: int, last: int) -> bytes:
        """Plain bytes of whole sectors, from the first byte to the one behind the last."""

    def over(self, source: Source) -> Self:
        """The same volume, read by another source of the same disk."""
        again = copy(self)
        again._source = source
        return again
