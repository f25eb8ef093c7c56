"""The other disks of a PC, laid behind the end of the one that it starts from, so that what spans
several (arrays, volume groups, a root elsewhere) can be read as one.

They can be read and not written: each is mended by its own name.
"""

from collections.abc import Sequence
from functools import partial

import msgspec

from mending.disk.layout.survey import survey
from mending.disk.volume import Volume
from mending.model import ByteOffset, InputError
from mending.source import Source
from mending.source.stitched import ViewedSource

STEP = 10_000
"""Volumes of the second disk have numbers from here on, of the third from twice as much."""


def with_other_disks(source: Source, others: Sequence[Source]) -> tuple[Source, tuple[Volume, ...]]:
    """The volumes of other disks, and the source to read all by.

    Raises:
        InputError: one is no disk, or has sectors of another length.
    """
    if not others:
        return source, ()
    viewed, found = ViewedSource(source), list[Volume]()
    for number, other in enumerate(others, 1):
        if other.bytes_per_sector != source.bytes_per_sector:
            raise InputError(
                f"{other.path} has sectors of {other.bytes_per_sector} bytes, and {source.path} of"
                f" {source.bytes_per_sector}.",
                "Trace it alone.",
            )
        start = viewed.add(partial(_bytes, other))
        found += [_behind(volume, start, number) for volume in survey(other).volumes]
    return viewed, tuple(found)


def _bytes(source: Source, offset: int, length: int) -> bytes:
    return source.read(offset, length).data


def _behind(volume: Volume, start: int, number: int) -> Volume:
    boot = msgspec.structs.replace(volume.boot, offset=ByteOffset(volume.boot.offset + start))
    return msgspec.structs.replace(
        volume,
        number=volume.number + number * STEP,
        offset=ByteOffset(volume.offset + start),
        type=f"disk {number + 1}: {volume.type}",
        boot=boot,
        active=False,
        efi=False,
    )
