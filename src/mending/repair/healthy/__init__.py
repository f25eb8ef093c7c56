"""A healthy copy taken from a disk, compared with it later, and put back in parts."""

from mending.repair.healthy.collect import collect
from mending.repair.healthy.compare import changed_parts
from mending.repair.healthy.parts import propose

__all__ = ["changed_parts", "collect", "propose"]
