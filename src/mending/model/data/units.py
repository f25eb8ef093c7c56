"""Units that must not be mixed up. A bare `int` in a signature is a count that its name
explains.
"""

from typing import NewType

Lba = NewType("Lba", int)
"""Number of a logical sector, counted from 0 at the start of the disk."""

SectorCount = NewType("SectorCount", int)
"""How many logical sectors."""

ByteOffset = NewType("ByteOffset", int)
"""Bytes from the start of the source."""
