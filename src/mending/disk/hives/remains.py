"""What is left of a hive that is damaged: keys found by their mark instead of from the root.

Every cell in use lies on a multiple of 8 bytes, its length in front and, for a key, the mark `nk`
behind that. So a key can be found though the base block, its bin or the keys above it are gone;
what hangs below it is read as ever, and what is lost of it is an error and not an absence.
"""

import contextlib
import struct
from collections.abc import Iterator

from mending.disk.hives.editor import new_hive
from mending.disk.hives.hive import Hive, Key
from mending.formats.nt.hive_base import BASE_BYTES
from mending.formats.nt.hive_cells import DamagedHiveError

_MARK, _BIN_BYTES = b"nk", 40
"""The mark of a key; where in the base block the length of the bins stands."""


def remaining_keys(data: bytes) -> Iterator[Key]:
    """Every key whose own cell can be read, in the order of their places.

    Args:
        data: the whole file of a hive; nothing of its base block is believed.
    """
    bins = data[BASE_BYTES:]
    head = bytearray(new_hive(0, "R")[:BASE_BYTES])
    struct.pack_into("<I", head, _BIN_BYTES, len(bins))
    hive = Hive(bytes(head) + bins)
    at = bins.find(_MARK)
    while at >= 0:
        cell = at - 4
        key = None
        with contextlib.suppress(DamagedHiveError):  # two letters that are no key
            key = Key(hive, cell) if cell % 8 == 0 else None
        if key is not None:
            yield key
        at = bins.find(_MARK, at + 1)
