"""Sectors turned into plain bytes, many at once: AES in XTS and in CBC, with a diffuser or without.

The modes are made out of single blocks (ECB), all blocks of all sectors in one call; what the modes
add to that is worked out for all sectors together.

Sources: IEEE 1619-2018 (XTS-AES; the tweak is doubled from block to block in GF(2^128)); NIST SP
800-38A 6.2 (CBC); Linux 6.1, `drivers/md/dm-crypt.c` (`plain`, `plain64`, `essiv`: how a sector's
number becomes its first value; numbers count 512 bytes). Volumes of the nt family encrypt the place
of a sector in bytes (`place`); what the diffuser does: `diffuser.py`.
"""

import hashlib
from collections.abc import Callable
from typing import TYPE_CHECKING

from mending.model import UsageError, load_extra, load_numpy

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
