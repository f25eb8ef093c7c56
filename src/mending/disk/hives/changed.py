"""Which keys and values two hives do not have alike."""

import hashlib

from mending.disk.hives.hive import Hive, walk
from mending.formats.nt.hive_cells import DamagedHiveError

_LEAST_VALUE = 24
"""Bytes of a value in its cell."""


def changed_places(before: Hive, after: Hive) -> frozenset[tuple[str, str | None]]:
    """Path of the key in small letters, and name of the value in small letters; None for a key that
    only one of them has.

    Raises:
        DamagedHiveError: one of them cannot be read to its end.
    """
    one, other = _all(before), _all(after)
    return frozenset(
        place for place in one.keys() | other.keys() if one.get(place) != other.get(place)
    )


def read_to_end(hive: Hive) -> None:
    """Read every key and value.

    Raises:
        DamagedHiveError: one of them cannot be read.
    """
    _all(hive)


def _all(hive: Hive) -> dict[tuple[str, str | None], tuple[int, bytes]]:
    """Every key and value, with type and a sum of the data."""
    found: dict[tuple[str, str | None], tuple[int, bytes]] = {}
    left = hive.length
    for path, key in walk(hive.root):
        place = path.casefold()
        found[place, None] = (0, key.class_name().encode())
        for value in key.values():
            data = hive.data(value)
            left -= max(len(data), _LEAST_VALUE)
            if left < 0:
                raise DamagedHiveError("its values hold more than it has room for.")
            digest = hashlib.blake2b(data, digest_size=16).digest()
            found[place, value.name.casefold()] = (value.type, digest)
    return found
