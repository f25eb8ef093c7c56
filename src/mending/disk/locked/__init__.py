"""Encrypted volumes, read through a view that turns their bytes into plain ones on the way. The key
lives in the view alone.
"""

from mending.disk.locked.ciphers import PlainVolume
from mending.disk.locked.unlocking import FveVolume, GivenKey, LuksVolume, unlock_fve
from mending.disk.locked.volumes import (
    KeyRing,
    key_ring,
    plain_volumes,
    volumes_of,
    with_unlocked_volumes,
)

__all__ = [
    "FveVolume",
    "GivenKey",
    "KeyRing",
    "LuksVolume",
    "PlainVolume",
    "key_ring",
    "plain_volumes",
    "unlock_fve",
    "volumes_of",
    "with_unlocked_volumes",
]
