"""Which keys and values two hives do not have alike."""

import hashlib

from mending.disk.hives.hive import Hive, walk


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


def _all(hive: Hive) -> dict[tuple[str, str | None], tuple[int, bytes]]:
    """Every key and value, with type and a sum of the data."""
    found: dict[tuple[str, str | None], tuple[int, bytes]] = {}
    for path, key in walk(hive.root):
        place = path.casefold()
        found[place, None] = (0, key.class_name().encode())
        for value in key.values():
            digest = hashlib.blake2b(hive.data(value), digest_size=16).digest()
            found[place, value.name.casefold()] = (value.type, digest)
    return found
