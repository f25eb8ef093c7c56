"""Logical volumes of the groups on a disk: where each lies, in one piece or in several.

A group's description names its physical volumes and says, for each logical volume, segment by
segment, on which of them and from which extent on its bytes lie. A volume of plain segments (linear
or striped) that are all on this disk can be read; mirrors, thin and cached ones, snapshots and what
lies on other disks cannot.

Source: LVM2, `lib/format_text/layout.h`, and the manual page lvm.conf(5) for the text.
"""

from collections.abc import Sequence

import msgspec

from mending.disk.layout.survey import volume_at
from mending.disk.volume import Volume, mapped_name, read_lvm_group
from mending.formats.container.lvm import Group, LogicalVolume, Segment
from mending.model import ByteOffset, FilesystemKind, InputError, Lba, SectorCount
from mending.source import Source, StitchedSource, Stripes
from mending.source.stitched import FIRST_VIEW

FIRST_NUMBER = 1001
"""Logical volumes have no number in a table; theirs begin here."""
_MOST_VOLUMES, _MOST_SEGMENTS, _MOST_STRIPES = 256, 4096, 64
"""Of a damaged or hostile description; what is beyond them stays unread, which is said."""
_SECTOR = 512
"""The unit of every length in a description, whatever the disk's."""


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
            parts = _parts(group, logical, starts) if len(found) < _MOST_VOLUMES else []
            if parts:
                found.append(_volume(stitched, group, logical, parts, FIRST_NUMBER + len(found)))
    return stitched, tuple(found)


def _volume(
    source: StitchedSource, group: Group, logical: LogicalVolume, parts: list[Stripes], number: int
) -> Volume:
    length = sum(part.length for part in parts)
    first = parts[0].starts[0]
    offset = first if len(parts) == len(parts[0].starts) == 1 else source.add(parts)
    sector = source.bytes_per_sector
    volume = volume_at(source, Lba(offset // sector), SectorCount(length // sector))
    return msgspec.structs.replace(
        volume,
        number=number,
        start=Lba(first // sector if first < FIRST_VIEW else 0),
        offset=ByteOffset(offset),
        type=f"logical volume {group.name}/{logical.name}",
        mapped=mapped_name(group.name, logical.name),
        mapped_id=f"{group.id}/{logical.id}",
    )


def _parts(group: Group, logical: LogicalVolume, starts: dict[str, int]) -> list[Stripes]:
    """Where a volume lies, parts that touch joined; empty where that is not so simple."""
    places = {
        physical.name: starts[physical.id] + physical.data_sector * _SECTOR
        for physical in group.physical
        if physical.id in starts
    }
    if len(logical.segments) > _MOST_SEGMENTS:
        return []
    joined: list[Stripes] = []
    at = 0
    for segment in sorted(logical.segments, key=lambda each: each.first):
        known = all(stripe.physical in places for stripe in segment.stripes)
        if segment.first != at or not segment.is_plain or not known:
            return []
        at += segment.extents
        part = _part(group, segment, places)
        if part is None:
            return []
        last = joined[-1] if joined else None
        if last is not None and _goes_on(last, part):
            length = last.length + part.length
            joined[-1] = Stripes(length, length, last.starts)
        else:
            joined.append(part)
    return joined


def _part(group: Group, segment: Segment, places: dict[str, int]) -> Stripes | None:
    """A segment; None where its numbers make no sense."""
    extent = group.extent_sectors * _SECTOR
    starts = tuple(places[stripe.physical] + stripe.first * extent for stripe in segment.stripes)
    length = segment.extents * extent
    unit = segment.stripe_sectors * _SECTOR if len(starts) > 1 else length
    if not length or len(starts) > _MOST_STRIPES or not unit or length % (unit * len(starts)):
        return None
    return Stripes(length, unit, starts)


def _goes_on(last: Stripes, part: Stripes) -> bool:
    """Whether a part lies right behind another; striped ones are left as they are."""
    return len(last.starts) == len(part.starts) == 1 and (
        last.starts[0] + last.length == part.starts[0]
    )
