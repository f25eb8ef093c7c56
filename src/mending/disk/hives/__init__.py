"""Settings hives of the nt family as trees of keys and values, as their kernel would see them."""

from mending.disk.hives.reading import (
    Hive,
    Key,
    Replayed,
    changed_places,
    control_set,
    current_versions,
    newest_of,
    read_to_end,
    replayed,
    walk,
)
from mending.disk.hives.writing import HiveEditor, new_hive, remaining_keys

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
