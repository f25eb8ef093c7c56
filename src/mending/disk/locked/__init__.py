"""Encrypted volumes, read through a view that turns their bytes into plain ones on the way. The key
lives in the view alone.
"""

from mending.disk.locked.effort import GivenKey
from mending.disk.locked.fve_unlocking import FveVolume, unlock_fve
from mending.disk.locked.plain_volume import PlainVolume
from mending.disk.locked.unlocked_volumes import (
    KeyRing,
    key_ring,
    plain_volumes,
    volumes_of,
    with_unlocked_volumes,
)
from mending.disk.locked.unlocking import LuksVolume

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
