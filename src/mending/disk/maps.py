"""A disk as stretches from its first sector to its last: tables, volumes, what no table lists, and what is free."""

from collections.abc import Iterable

import msgspec

from mending.disk.candidates import Found
from mending.disk.gaps import ALIGNED, usable_range
from mending.disk.survey import Disk


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
    """Where everything lies. `sector` is bytes per sector; stretches are in the order of the disk."""

    sector: int
    sectors: int
    stretches: tuple[Stretch, ...]


def disk_map(disk: Disk, found: Iterable[Found] = ()) -> DiskMap:
    """The map of a disk.

    Args:
        found: volumes by a search; those that a table lists are drawn as listed.
    """
    size = disk.source.bytes_per_sector
    listed = [one for one in disk.volumes if not one.extended]
    known = {one.start for one in listed}
    stretches = [
        Stretch(
            start=one.start, sectors=one.sectors, kind="volume", number=one.number, filesystem=one.filesystem,
            label=one.label,
        )
        for one in listed
    ]  # fmt: skip
    lost = [one for one in found if one.offset // size not in known]
    stretches += [
        Stretch(
            start=one.offset // size, sectors=-(-one.bytes // size), kind="unlisted", filesystem=one.filesystem,
            label=one.label,
        )
        for one in lost
    ]  # fmt: skip
    if not any(one.start == 0 for one in listed):
        stretches += _tables(disk)
    return _with_gaps(size, disk.sectors, stretches)


def lost_between(before: DiskMap, after: DiskMap) -> DiskMap:
    """The earlier map with the volumes that only the later one lists drawn as unlisted."""
    known = {one.start for one in before.stretches if one.kind == "volume"}
    later = [one for one in after.stretches if one.kind == "volume" and one.start not in known]
    lost = [msgspec.structs.replace(one, kind="unlisted", number=None) for one in later]
    kept = [one for one in before.stretches if one.kind != "gap"]
    return _with_gaps(before.sector, before.sectors, [*kept, *lost])


def _tables(disk: Disk) -> list[Stretch]:
    first, end = usable_range(disk)
    parts = [(0, int(first)), (int(end), disk.sectors - end)]
    return [Stretch(start=start, sectors=count, kind="table") for start, count in parts if count > 0 and start >= 0]


def _with_gaps(size: int, sectors: int, taken: list[Stretch]) -> DiskMap:
    """The map of some stretches and of what lies between them; alignment leaves less than a MiB, which is not shown."""
    ordered = sorted(taken, key=lambda one: (one.start, -one.sectors))
    free, at = [], 0
    for one in [*ordered, Stretch(start=sectors, sectors=0, kind="table")]:
        if one.start - at > ALIGNED // size:
            free.append(Stretch(start=at, sectors=one.start - at, kind="gap"))
        at = max(at, one.start + one.sectors)
    everything = sorted([*ordered, *free], key=lambda one: (one.start, -one.sectors))
    return DiskMap(sector=size, sectors=sectors, stretches=tuple(everything))
