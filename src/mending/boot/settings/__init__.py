"""What the hives of one moment say, in plain words, and how two moments differ: drivers, services,
programs, updates, devices, what runs at the start and at sign-in.
"""

from mending.boot.settings.difference import (
    CHANGES,
    CompareResult,
    SettingChange,
    SideResult,
    compared,
)
from mending.boot.settings.hive_set import HiveSet, hive_set_of, one_hive
from mending.boot.settings.listing import Setting, listed
from mending.boot.settings.losses import losses_of

__all__ = [
    "CHANGES",
    "CompareResult",
    "HiveSet",
    "Setting",
    "SettingChange",
    "SideResult",
    "compared",
    "hive_set_of",
    "listed",
    "losses_of",
    "one_hive",
]
