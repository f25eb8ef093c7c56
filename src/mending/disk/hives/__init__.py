"""Settings hives of the nt family as trees of keys and values, as their kernel would see them."""

from mending.disk.hives.changed import changed_places, read_to_end
from mending.disk.hives.editor import HiveEditor, new_hive
from mending.disk.hives.hive import Hive, Key, walk
from mending.disk.hives.places import control_set, current_versions
from mending.disk.hives.remains import remaining_keys
from mending.disk.hives.replay import Replayed, newest_of, replayed

__all__ = [
    "Hive",
    "HiveEditor",
    "Key",
    "Replayed",
    "changed_places",
    "control_set",
    "current_versions",
    "new_hive",
    "newest_of",
    "read_to_end",
    "remaining_keys",
    "replayed",
    "walk",
]
