"""Encrypted volumes, read through a view that turns their bytes into plain ones on the way. The key
lives in the view alone.
"""

from mending.disk.locked.unlocked_volumes import with_unlocked_volumes
from mending.disk.locked.unlocking import LuksVolume, unlock_luks

__all__ = ["LuksVolume", "unlock_luks", "with_unlocked_volumes"]
