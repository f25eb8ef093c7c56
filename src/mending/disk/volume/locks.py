"""The head of a locked volume, wherever a sound copy of it is."""

from mending.disk.volume.volume import Volume
from mending.formats.encryption import luks
from mending.formats.encryption.luks import LuksHead
from mending.source import Source


def luks_head(source: Source, volume: Volume) -> LuksHead | None:
    """The head of a LUKS volume, from its second copy where the first is damaged.

    Raises:
        ReadError
    """
    for place in (0, *luks.SECOND_PLACES):
        if place < volume.bytes:
            length = min(luks.MOST_HEAD, volume.bytes - place)
            head = luks.read_luks(source.read(volume.offset + place, length))
            if head is not None:
                return head
    return None
