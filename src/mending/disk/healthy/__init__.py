"""The healthy copy: what starts a PC, kept in one open file while it starts."""

from mending.disk.healthy.copy_file import HealthyCopy, load_copy, save_copy
from mending.disk.healthy.index import (
    HealthyIndex,
    KeptFile,
    KeptRange,
    identifiers_of,
    why_not_of,
)

__all__ = [
    "HealthyCopy",
    "HealthyIndex",
    "KeptFile",
    "KeptRange",
    "identifiers_of",
    "load_copy",
    "save_copy",
    "why_not_of",
]
