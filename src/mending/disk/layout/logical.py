"""Logical volumes of the groups on a disk: where each lies, in one piece or in several.

A group's description names its physical volumes and says, for each logical volume, segment by
segment, on which of them and from which extent on its bytes lie. A volume of plain segments (linear
or striped) that are all on this disk can be read; mirrors, thin and cached ones, snapshots and what
lies on other disks cannot.

Source: LVM2, `lib/format_text/layout.h`, and the manual page lvm.conf(5) for the text.
"""

from collections.abc import Iterator, Sequence

import msgspec

from mending.disk.layout.survey import volume_at
from mending.disk.volume import Volume, mapped_name, read_lvm_group
from mending.formats.container.lvm import Group, LogicalVolume, Segment
from mending.model import ByteOffset, FilesystemKind, InputError, Lba, SectorCount
from mending.source import Source, StitchedSource

FIRST_NUMBER = 1001
"""Logical volumes have no number in a table; theirs begin here."""
_MOST_PIECES = 65_536
_SECTOR = 512
"""The unit of every length in a description, whatever the disk's."""

Piece = tuple[int, int]
"""Offset on the disk and length in bytes."""


def with_logical_volumes(
    source: Source, volumes: Sequence[Volume]
) -> tuple[Source, tuple[Volume, ...]]:
    """The logical volumes that can be read, and the source to read all volumes by: volumes in
    several pieces lie behind its end.
    """
    starts: dict[str, int] = {}
    groups: dict[str, Group] = {}
    for volume in volumes:
        if volume.filesystem is FilesystemKind.LVM and not volume.extended:
            try:
                identity, group = read_lvm_group(source, volume)
            except InputError:
                continue  # a group that cannot be read hides its volumes, as before
            if group is not None:
                starts[identity] = volume.offset
                groups[group.id] = group
    if not groups:
        return source, ()
    stitched = StitchedSource(source)
    found: list[Volume] = []
    for group in groups.values():
        for logical in group.volumes:
            pieces = _pieces(group, logical, starts)
            if pieces:
                found.append(_volume(stitched, group, logical, pieces, FIRST_NUMBER + len(found)))
    return stitched, tuple(found)


def _volume(
    source: StitchedSource, group: Group, logical: LogicalVolume, pieces: list[Piece], number: int
) -> Volume:
    length = sum(size for _, size in pieces)
    offset = pieces[0][0] if len(pieces) == 1 else source.add(pieces)
    sector = source.bytes_per_sector
    volume = volume_at(source, Lba(offset // sector), SectorCount(length // sector))
    return msgspec.structs.replace(
        volume,
        number=number,
        start=Lba(pieces[0][0] // sector),
        offset=ByteOffset(offset),
        type=f"logical volume {group.name}/{logical.name}",
        mapped=mapped_name(group.name, logical.name),
        mapped_id=f"{group.id}/{logical.id}",
    )


def _pieces(group: Group, logical: LogicalVolume, starts: dict[str, int]) -> list[Piece]:
    """Where a volume lies, pieces that touch joined; empty where that is not so simple."""
    places = {
        physical.name: starts[physical.id] + physical.data_sector * _SECTOR
        for physical in group.physical
        if physical.id in starts
    }
    joined: list[Piece] = []
    at = 0
    for segment in sorted(logical.segments, key=lambda each: each.first):
        known = all(stripe.physical in places for stripe in segment.stripes)
        if segment.first != at or not segment.is_plain or not known:
            return []
        at += segment.extents
        for offset, size in _segment_pieces(group, segment, places):
            if joined and joined[-1][0] + joined[-1][1] == offset:
                joined[-1] = (joined[-1][0], joined[-1][1] + size)
            else:
                joined.append((offset, size))
            if len(joined) > _MOST_PIECES:
                return []
    return joined


def _segment_pieces(group: Group, segment: Segment, places: dict[str, int]) -> Iterator[Piece]:
    extent = group.extent_sectors * _SECTOR
    firsts = [places[stripe.physical] + stripe.first * extent for stripe in segment.stripes]
    length = segment.extents * extent
    if len(firsts) == 1:
        yield firsts[0], length
        return
    stripe = segment.stripe_sectors * _SECTOR
    if not stripe or length % (stripe * len(firsts)):
        return
    for row in range(min(length // (stripe * len(firsts)), _MOST_PIECES)):
        for first in firsts:
            yield first + row * stripe, stripe
