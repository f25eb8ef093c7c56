"""Kernel dumps of the nt family: the header, what small ones carry, the memory in larger ones."""

from mending.formats.evidence.dump.header import (
    HEAD_BYTES,
    NARROW,
    WIDE,
    Driver,
    Dump,
    is_dump,
    read,
)
from mending.formats.evidence.dump.memory import DumpMemory, Reader

__all__ = [
    "HEAD_BYTES",
    "NARROW",
    "WIDE",
    "Driver",
    "Dump",
    "DumpMemory",
    "Reader",
    "is_dump",
    "read",
]
