"""Arrays of Linux's software RAID whose members are at hand, as volumes of their own.

Members are gathered by the identifier of their array. Those that lag behind the newest are stale
and count as missing, as for the kernel. Then each level has its own way from a byte of the array to
a byte of a member: a mirror takes any member, a striped one goes from chunk to chunk, a linear one
from member to member, and level 10 lays each chunk down twice, side by side. Levels with parity,
far copies and striped arrays of unequal members are not read.

An array lies behind the end of the disk: it can be read and not written, for its other members
would not follow. A mirror whose data begins with its member is no volume of its own: the member
reads as what is in it, as firmware and boot managers read it.

Source: the manual page md(4); Linux `drivers/md/raid0.c`, `drivers/md/raid10.c`
(`__raid10_find_phys`).
"""

from collections.abc import Iterator, Sequence
from functools import partial

import msgspec

from mending.disk.layout.survey import survey, volume_at
from mending.disk.volume import Volume, mapped_name, raid_member, read_lvm_group
from mending.formats.arrays import Group, LogicalVolume, RaidMember, Segment
from mending.model import ByteOffset, FilesystemKind, InputError, Lba, SectorCount
from mending.source import Source, StitchedSource, Stripes
from mending.source.stitched import FIRST_VIEW, ViewedSource

FIRST_ARRAY = 3001
"""Arrays have no number in a table; theirs begin here."""
_MIRROR, _STRIPED, _LINEAR, _BOTH = 1, 0, -1, 10
_NAMES = {_MIRROR: "1", _STRIPED: "0", _LINEAR: "linear", _BOTH: "10", 4: "4", 5: "5", 6: "6"}
_SECTOR = 512
_PLAIN_COPIES = 0x100
"""Of the layout of level 10: copies lie side by side, none far away."""


class Array(msgspec.Struct, frozen=True, kw_only=True):
    """What of an array is at hand.

    Attributes:
        members: by their place in the array, each with the volume that it fills.
        stale: volumes whose member lags behind.
        unread: why the array cannot be read; empty where it can.
        volume: what it holds; None where it cannot be read, or where its members read as it does.
    """

    id: str
    name: str
    level: int
    count: int
    members: dict[int, tuple[Volume, RaidMember]]
    stale: tuple[Volume, ...] = ()
    unread: str = ""
    volume: Volume | None = None

    @property
    def missing(self) -> tuple[int, ...]:
        """Places whose members are not at hand, from 0."""
        return tuple(place for place in range(self.count) if place not in self.members)

    @property
    def member_numbers(self) -> frozenset[int]:
        """Numbers of the volumes that are its members, stale ones, too."""
        current = {volume.number for volume, _ in self.members.values()}
        return frozenset(current | {volume.number for volume in self.stale})

    @property
    def kind(self) -> str:
        """Its level, for sentences."""
        return f"level {_NAMES.get(self.level, self.level)}"

    @property
    def numbers(self) -> str:
        """The volumes that are its members, for sentences."""
        return ", ".join(str(volume.number) for volume, _ in self.members.values())


def with_arrays(source: Source, volumes: Sequence[Volume]) -> tuple[Source, tuple[Array, ...]]:
    """The arrays of which members are at hand, and the source to read all volumes by."""
    gathered: dict[str, list[tuple[Volume, RaidMember]]] = {}
    for volume in volumes:
        member = None if volume.extended else _member(source, volume)
        fits = member is not None and member.data_start + member.data_bytes <= volume.bytes
        if member is not None and fits and member.data_bytes:
            gathered.setdefault(member.array, []).append((volume, member))
    if not gathered:
        return source, ()
    viewed = source if isinstance(source, ViewedSource) else ViewedSource(source)
    found = list[Array]()
    for pairs in gathered.values():
        array = _array(pairs)
        if not array.unread and not _reads_as_its_member(array):
            number = FIRST_ARRAY + sum(each.volume is not None for each in found)
            array = msgspec.structs.replace(array, volume=_volume(viewed, array, number))
        found.append(array)
    return viewed, tuple(found)


def mirrored(volume: Volume, arrays: Sequence[Array]) -> Volume:
    """A volume with the identifier of the mirror that it is a member of, where it reads as what is
    in that.
    """
    for array in arrays:
        if not array.unread and array.volume is None and volume.number in array.member_numbers:
            return msgspec.structs.replace(volume, array=array.id)
    return volume


def _member(source: Source, volume: Volume) -> RaidMember | None:
    try:
        return raid_member(source, volume.offset, volume.bytes)
    except InputError:
        return None


def _array(pairs: list[tuple[Volume, RaidMember]]) -> Array:
    newest = max(member.events for _, member in pairs)
    first = next(member for _, member in pairs if member.events == newest)
    # one behind may be a member that was written last before the power went
    current = [pair for pair in pairs if pair[1].events >= newest - 1]
    members: dict[int, tuple[Volume, RaidMember]] = {}
    for volume, member in current:
        if member.place is not None and member.level == first.level:
            members.setdefault(member.place, (volume, member))
    array = Array(
        id=first.array,
        name=first.name,
        level=first.level,
        count=first.members,
        members=dict(sorted(members.items())),
        stale=tuple(volume for volume, member in pairs if member.events < newest - 1),
    )
    return msgspec.structs.replace(array, unread=_why_unread(array, first))


def _why_unread(array: Array, first: RaidMember) -> str:
    if array.level not in {_MIRROR, _STRIPED, _LINEAR, _BOTH}:
        return "its level has parity, which is not read here"
    if array.level == _BOTH and first.layout & ~0xFF != _PLAIN_COPIES:
        return "its copies lie far apart, which is not read here"
    copies = first.layout & 0xFF if array.level == _BOTH else 1
    if array.level in {_STRIPED, _BOTH} and (
        not first.chunk or first.chunk % _SECTOR or not 0 < copies <= array.count
    ):
        return "its chunks have no length that could be"
    lengths = {member.data_bytes // max(first.chunk, 1) for _, member in array.members.values()}
    if array.level == _STRIPED and len(lengths) > 1:
        return "its members are of different lengths, which is not read here"
    lost = set(array.missing)
    if array.level == _MIRROR:
        gone = len(lost) == array.count
    elif array.level == _BOTH:
        gone = any(
            all((number * copies + copy) % array.count in lost for copy in range(copies))
            for number in range(array.count)
        )
    else:
        gone = bool(lost)
    if not gone:
        return ""
    places = ", ".join(str(place) for place in sorted(lost))
    return f"of its {array.count} members number {places} (from 0) is not at hand"


def _reads_as_its_member(array: Array) -> bool:
    volume, member = next(iter(array.members.values()))
    plain = volume.kind.is_recognised and volume.filesystem is not FilesystemKind.RAID
    return array.level == _MIRROR and not member.data_start and plain


def _volume(source: ViewedSource, array: Array, number: int) -> Volume:
    offset, sector = source.add(_View(source, array).read), source.bytes_per_sector
    count = SectorCount(_length(array) // sector)
    inside = volume_at(source, Lba(offset // sector), count)
    return msgspec.structs.replace(
        inside,
        number=number,
        start=Lba(0),
        type=f"array {array.name} of volumes {array.numbers}",
        array=array.id,
    )


def _length(array: Array) -> int:
    """Bytes of an array."""
    members = [member for _, member in array.members.values()]
    least = min(member.data_bytes for member in members)
    if array.level == _MIRROR:
        return least
    if array.level == _LINEAR:
        return sum(member.data_bytes for member in members)
    chunk = members[0].chunk
    copies = members[0].layout & 0xFF if array.level == _BOTH else 1
    return least // chunk * array.count // copies * chunk


class _View:
    """An array as bytes from its start."""

    def __init__(self, source: Source, array: Array) -> None:
        self._source, self._array, self._length = source, array, _length(array)

    def read(self, offset: int, length: int) -> bytes:
        """Bytes of it; fewer at its end."""
        parts: list[bytes] = []
        for place, count in self._places(offset, min(length, self._length - offset)):
            parts.append(self._source.read(place, count).data)
            if len(parts[-1]) < count:
                break
        return b"".join(parts)

    def _places(self, offset: int, length: int) -> Iterator[tuple[int, int]]:
        while length > 0:
            number, into, together = self._locate(offset)
            volume, member = self._array.members[number]
            step = min(length, together)
            yield volume.offset + member.data_start + into, step
            offset, length = offset + step, length - step

    def _locate(self, offset: int) -> tuple[int, int, int]:
        """The member that a byte is on, where in its data, and how many bytes lie together."""
        members, level = self._array.members, self._array.level
        if level == _MIRROR:
            return next(iter(members)), offset, self._length - offset
        if level == _LINEAR:
            for number, (_, member) in members.items():
                if offset < member.data_bytes:
                    return number, offset, member.data_bytes - offset
                offset -= member.data_bytes
        first = next(iter(members.values()))[1]
        copies = first.layout & 0xFF if level == _BOTH else 1
        chunk, within = divmod(offset, first.chunk)
        for copy in range(copies):
            row, number = divmod(chunk * copies + copy, self._array.count)
            if number in members:
                return number, row * first.chunk + within, first.chunk - within
        raise InputError("A part of the array lies on members that are not at hand.")


# Logical volumes of the groups on a disk: where each lies, in one piece or in several.
#
# A group's description names its physical volumes and says, for each logical volume, segment by
# segment, on which of them and from which extent on its bytes lie. A volume of plain segments
# (linear or striped) that are all on this disk can be read; mirrors, thin and cached ones,
# snapshots and what lies on other disks cannot.
#
# Source: LVM2, `lib/format_text/layout.h`, and the manual page lvm.conf(5) for the text.


FIRST_LOGICAL = 1001
"""Logical volumes have no number in a table; theirs begin here."""
_MOST_VOLUMES, _MOST_SEGMENTS, _MOST_STRIPES = 256, 4096, 64
"""Of a damaged or hostile description; what is beyond them stays unread, which is said."""


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
                found.append(
                    _logical_volume(stitched, group, logical, parts, FIRST_LOGICAL + len(found))
                )
    return stitched, tuple(found)


def _logical_volume(
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


# The other disks of a PC, laid behind the end of the one that it starts from, so that what spans
# several (arrays, volume groups, a root elsewhere) can be read as one.
#
# They can be read and not written: each is mended by its own name.


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
