"""The stretches of a disk that no table lists, and what begins in them."""

from collections.abc import Iterator

from mending.disk.layout.survey import Disk, Scheme, volume_at
from mending.disk.volume import Volume
from mending.formats.partition import gpt
from mending.model import Lba, SectorCount

ALIGNED = 1 << 20
"""Partitioning programs start volumes at whole MiB; older ones at sector 63."""
_OLD_START = 63


def usable_range(disk: Disk) -> tuple[Lba, Lba]:
    """First sector for volumes, and the first one behind them."""
    believed = disk.gpt.believed if disk.gpt is not None else None
    if believed is not None and believed.header is not None:
        return Lba(believed.header.first_usable_lba), Lba(
            believed.header.last_usable_lba_inclusive + 1
        )
    if disk.scheme is Scheme.GPT:
        room = 1 + -(-gpt.COUNT * gpt.ENTRY_SIZE // disk.source.bytes_per_sector)
        return Lba(1 + room), Lba(disk.sectors - room)
    return Lba(1), Lba(disk.sectors)


def gaps(disk: Disk) -> Iterator[tuple[Lba, SectorCount]]:
    """Stretches between first and last usable sector that no entry covers; an extended entry covers
    its own.
    """
    at, end = usable_range(disk)
    for volume in sorted(disk.volumes, key=lambda volume: volume.start):
        if at < volume.start <= end:
            yield at, SectorCount(volume.start - at)
        at = max(at, Lba(volume.start + volume.sectors))
    if at < end:
        yield at, SectorCount(end - at)


def find_unlisted_volumes(disk: Disk) -> list[Volume]:
    """Volumes that no entry lists and that begin where a partitioning program would have put them.

    Looked at are the starts of gaps and of entries behind which nothing is known, up to the next
    whole MiB; a search finds the others.
    """
    size = disk.source.bytes_per_sector
    step = max(ALIGNED // size, 1)
    hollow = [
        volume.start
        for volume in disk.volumes
        if not volume.kind.is_recognised and not volume.extended
    ]
    listed = {volume.start for volume in disk.volumes}
    found: dict[Lba, Volume] = {}
    for start in [*(start for start, _ in gaps(disk)), *hollow]:
        for place in (
            start,
            -(-start // step) * step,
            *((_OLD_START,) if start < _OLD_START else ()),
        ):
            if place in listed or not 0 < place < disk.sectors:
                continue
            volume = volume_at(disk.source, Lba(place), SectorCount(disk.sectors - place))
            if volume.kind.is_recognised and volume.boot.sound:
                found.setdefault(volume.start, volume)
    return sorted(found.values(), key=lambda volume: volume.start)
