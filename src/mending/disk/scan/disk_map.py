"""A disk as stretches from its first sector to its last: tables, volumes, what no table lists, and
what is free.
"""

from collections.abc import Iterable

import msgspec

from mending.disk.layout import ALIGNED, Disk, usable_range
from mending.disk.scan.candidates import Candidate


class Stretch(msgspec.Struct, frozen=True, kw_only=True):
    """One stretch. `start` and `sectors` are in sectors of the disk.

    Attributes:
        kind: `table volume unlisted gap`. Volumes may share sectors where a table is wrong.
        number: of a listed volume, else None.
    """

    start: int
    sectors: int
    kind: str
    number: int | None = None
    filesystem: str = ""
    label: str = ""


class DiskMap(msgspec.Struct, frozen=True, kw_only=True):
    """Where everything lies. `sector` is bytes per sector; stretches are in the order of the
    disk.
    """

    sector: int
    sectors: int
    stretches: tuple[Stretch, ...]


def disk_map(disk: Disk, found: Iterable[Candidate] = ()) -> DiskMap:
    """The map of a disk.

    Args:
        found: volumes by a search; those that a table lists are drawn as listed.
    """
    size = disk.source.bytes_per_sector
    listed = [volume for volume in disk.volumes if not volume.extended]
    known = {volume.start for volume in listed}
    stretches = [
        Stretch(
            start=volume.start,
            sectors=volume.sectors,
            kind="volume",
            number=volume.number,
            filesystem=volume.filesystem,
            label=volume.label,
        )
        for volume in listed
    ]
    lost = [candidate for candidate in found if candidate.offset // size not in known]
    stretches += [
        Stretch(
            start=candidate.offset // size,
            sectors=-(-candidate.bytes // size),
            kind="unlisted",
            filesystem=candidate.filesystem,
            label=candidate.label,
        )
        for candidate in lost
    ]
    if not any(volume.start == 0 for volume in listed):
        stretches += _tables(disk)
    return _with_gaps(size, disk.sectors, stretches)


def lost_between(before: DiskMap, after: DiskMap) -> DiskMap:
    """The earlier map with the volumes that only the later one lists drawn as unlisted."""
    known = {stretch.start for stretch in before.stretches if stretch.kind == "volume"}
    later = [
        stretch
        for stretch in after.stretches
        if stretch.kind == "volume" and stretch.start not in known
    ]
    lost = [msgspec.structs.replace(stretch, kind="unlisted", number=None) for stretch in later]
    kept = [stretch for stretch in before.stretches if stretch.kind != "gap"]
    return _with_gaps(before.sector, before.sectors, [*kept, *lost])


def _tables(disk: Disk) -> list[Stretch]:
    first, end = usable_range(disk)
    parts = [(0, int(first)), (int(end), disk.sectors - end)]
    return [
        Stretch(start=start, sectors=count, kind="table")
        for start, count in parts
        if count > 0 and start >= 0
    ]


def _with_gaps(size: int, sectors: int, taken: list[Stretch]) -> DiskMap:
    """The map of some stretches and of what lies between them; alignment leaves less than a MiB,
    which is not shown.
    """
    ordered = sorted(taken, key=lambda stretch: (stretch.start, -stretch.sectors))
    free, at = [], 0
    for stretch in [*ordered, Stretch(start=sectors, sectors=0, kind="table")]:
        if stretch.start - at > ALIGNED // size:
            free.append(Stretch(start=at, sectors=stretch.start - at, kind="gap"))
        at = max(at, stretch.start + stretch.sectors)
    everything = sorted([*ordered, *free], key=lambda stretch: (stretch.start, -stretch.sectors))
    return DiskMap(sector=size, sectors=sectors, stretches=tuple(everything))
