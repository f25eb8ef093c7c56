"""Shadow copies of a volume of the nt family: the catalogue, and what each copy keeps.

A volume keeps earlier moments of itself. Before a block of 16 KiB is written over for the first
time after a moment, what it held is put away in the store of the newest copy. Everything is found
from a header at byte 7680; blocks of every kind begin with the same identifier and their kind, and
chains of them are linked by the place of the next one. All places are bytes from the start of the
volume.

Source: public descriptions of the format by those who read it independently (volume header,
catalogue, store lists and bitmaps).
"""

import struct
import uuid
from collections.abc import Iterator

import msgspec

from mending.model.data import unix_seconds

HEADER_AT, HEADER_BYTES = 7680, 512
BLOCK, HEAD = 0x4000, 128
SECTOR = 512
_IDENTIFIER = uuid.UUID("3808876b-c176-4e48-b7ae-04046e6cc752").bytes_le
_VOLUME_HEADER, CATALOGUE, BLOCK_LIST, BITMAP = 1, 2, 3, 6
_PLACE = struct.Struct("<Q")
_CATALOGUE_AT, _NEXT_AT = 48, 40
_ENTRY = 128
_COPY, _STORE = 2, 3
ROW = "<u8, <u8, <u8, <u4, <u4"
"""A row of a block list: the place in the volume, the place in the copy that comes after, the place
where it is kept, flags, and which sectors of it are kept."""
ROW_BYTES = 32
FORWARD, OVER, UNUSED = 1, 2, 4
"""Flags: the next copy has it, at its second place; some sectors lie over it; left out."""


class ShadowEntry(msgspec.Struct, frozen=True, kw_only=True):
    """One copy.

    Attributes:
        number: counts up with every copy that was made.
        created: Unix seconds.
        size: bytes of the volume as it was.
        blocks, bitmap, earlier_bitmap: where its chains begin; 0 for none.
    """

    identifier: str
    number: int
    created: float
    size: int
    blocks: int
    bitmap: int
    earlier_bitmap: int


def read_header(data: bytes) -> int:
    """Where the catalogue begins; 0 where a volume has none."""
    if not _is_block(data, _VOLUME_HEADER) or len(data) < HEAD:
        return 0
    return int(_PLACE.unpack_from(data, _CATALOGUE_AT)[0])


def next_block(data: bytes, kind: int) -> int | None:
    """The place of the block that follows, 0 at the end; None for a block that is none of its
    kind.
    """
    if len(data) < BLOCK or not _is_block(data, kind):
        return None
    return int(_PLACE.unpack_from(data, _NEXT_AT)[0])


def entries_of(blocks: list[bytes]) -> tuple[ShadowEntry, ...]:
    """The copies that a catalogue lists, the oldest first; those that miss one of their two rows
    are left out.
    """
    made: dict[bytes, tuple[int, ...]] = {}
    stores: dict[bytes, tuple[int, ...]] = {}
    for kind, row in _rows(blocks):
        identifier = row[16:32]
        if kind == _COPY:
            size, number, created = (_PLACE.unpack_from(row, at)[0] for at in (8, 32, 48))
            made[identifier] = (size, number, created)
        elif kind == _STORE:
            stores[identifier] = tuple(_PLACE.unpack_from(row, at)[0] for at in (8, 48, 72))
    found = []
    for identifier, (size, number, created) in made.items():
        if identifier in stores and 0 < created < 1 << 62:
            places = stores[identifier]
            found.append(
                ShadowEntry(
                    identifier=str(uuid.UUID(bytes_le=identifier)),
                    number=number,
                    created=unix_seconds(created),
                    size=size,
                    blocks=places[0],
                    bitmap=places[1],
                    earlier_bitmap=places[2],
                )
            )
    return tuple(sorted(found, key=lambda entry: entry.number))


def _rows(blocks: list[bytes]) -> Iterator[tuple[int, bytes]]:
    for block in blocks:
        for at in range(HEAD, BLOCK, _ENTRY):
            row = block[at : at + _ENTRY]
            yield int(_PLACE.unpack_from(row)[0]), row


def _is_block(data: bytes, kind: int) -> bool:
    return data[:16] == _IDENTIFIER and data[20:24] == kind.to_bytes(4, "little")
