"""Where the identifiers of a disk stand: those of its table, and of each file system on it. No use
of the disk changes them, and two disks that are no copies of each other differ in them.
"""

from itertools import islice

from mending.disk.layout.survey import Disk
from mending.source import IdentityPart

_SIGNATURE = IdentityPart(440, 4)
"""Of the disk, in its MBR."""
_GUID_AT, _GUID_BYTES = 56, 16
"""Of the disk, in a GPT header."""
_MOST_VOLUMES = 32


def identifier_ranges(disk: Disk | None) -> tuple[IdentityPart, ...]:
    """The byte ranges of all identifiers; none of what is no disk."""
    if disk is None:
        return ()
    parts = [_SIGNATURE]
    if disk.gpt is not None:
        size = disk.source.bytes_per_sector
        parts += [
            IdentityPart(sector * size + _GUID_AT, _GUID_BYTES) for sector in (1, disk.sectors - 1)
        ]
    for volume in islice(disk.volumes, _MOST_VOLUMES):
        at, length = volume.kind.identifier
        if length and at + length <= volume.bytes:
            parts.append(IdentityPart(volume.offset + at, length))
    return tuple(parts)
