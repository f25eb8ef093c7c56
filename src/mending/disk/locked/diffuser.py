"""The diffuser of older encrypted volumes of the nt family: over the plain bytes of a sector every
bit is spread before AES-CBC comes, so that nobody can change a few of them.

A sector is a ring of 32-bit words. A layer goes round it: each word grows by the exclusive or of
two others, one of them turned left; the second layer looks the other way. Last, a key of the sector
is laid over: two blocks of its place, encrypted by a key of its own. Source: the maker's published
paper on this cipher (2006), section 4.
"""

from typing import TYPE_CHECKING

from mending.disk.locked.sector_cipher import TOGETHER, SectorCipher, in_runs, turned
from mending.model import load_numpy

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
