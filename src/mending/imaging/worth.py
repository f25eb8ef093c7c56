"""What a drive holds, and what each part of it is worth to its owner.

A dying drive may not last until its end, so it is read in the order of worth and not of sectors.
What starts the PC comes first and then what the file systems need, for without these nothing has a
name, and walking them reads them; then the files that were asked for, or those of persons, then all
others, then what a map calls in use and nobody owns. What a map calls free comes last. Worth is a
power of two, so that it can be weighed against how hard a stretch is to read.
"""

from collections.abc import Iterator
from enum import IntEnum

import msgspec

from mending.disk.ext import ExtVolume
from mending.disk.files import Files, FilesUnavailableError, open_files
from mending.disk.layout import survey, with_logical_volumes
from mending.disk.volume import Volume, fat_volume
from mending.formats import fat, ntfs
from mending.imaging.drive import CopyingSource
from mending.knowledge.families import FileWishes
from mending.model import FilesystemKind, InputError
from mending.model.limits import WINDOW_BYTES
from mending.source import Source, StitchedSource
from mending.source.imaging import ByteRanges

# What a file system says is in use, by its map of blocks: what no file was found for, too.


_MOST_GROUPS, _MOST_BITMAP = 1 << 20, 256 << 20
_UNUSED_MAP = 2
"""Flag of a group of an ext volume: its map was never written, so nothing is in use but structures
(`EXT4_BG_BLOCK_UNINIT`).
"""
_FLAGS_AT, _MAP_HIGH_AT, _LARGE = 18, 32, 64


def used_ranges(source: Source, volume: Volume) -> Iterator[tuple[int, int]]:
    """First byte and the one behind the last of everything in use, from the start of the volume;
    nothing for kinds of which it is not known here.

    Raises:
        InputError: the map cannot be read.
    """
    if volume.filesystem is FilesystemKind.EXT:
        yield from _ext(source, volume)
    elif volume.filesystem is FilesystemKind.NTFS:
        yield from _ntfs(source, volume)
    elif volume.kind.is_fat:
        yield from _fat(source, volume)


def _ext(source: Source, volume: Volume) -> Iterator[tuple[int, int]]:
    """By the block bitmap of each group (kernel documentation, "ext4 Data Structures and
    Algorithms", "Block Group Descriptors").
    """
    opened = ExtVolume(source, volume.offset)
    block, size = opened.block, opened.size
    if not 0 < block.blocks_per_group <= size * 8:
        return  # clusters of many blocks
    groups = -(-(block.blocks - block.first_data_block) // block.blocks_per_group)
    rows = size // block.group_bytes
    for group in range(min(groups, _MOST_GROUPS)):
        number, at = divmod(group, rows)
        row = opened.read(
            block.descriptor_block(number) * size + at * block.group_bytes, block.group_bytes
        )
        if int.from_bytes(row[_FLAGS_AT : _FLAGS_AT + 2], "little") & _UNUSED_MAP:
            continue
        place = int.from_bytes(row[:4], "little")
        if block.group_bytes >= _LARGE:
            place |= int.from_bytes(row[_MAP_HIGH_AT : _MAP_HIGH_AT + 4], "little") << 32
        first = block.first_data_block + group * block.blocks_per_group
        count = min(block.blocks_per_group, block.blocks - first)
        for start, end in _runs(opened.read(place * size, size), count):
            yield (first + start) * size, (first + end) * size


def _ntfs(source: Source, volume: Volume) -> Iterator[tuple[int, int]]:
    files = open_files(source, volume)
    found = files.find("/$Bitmap")
    if found is None:
        raise FilesUnavailableError("The map of clusters was not found.")
    data = files.read(found, _MOST_BITMAP)
    boot = ntfs.read(source.read(volume.offset, ntfs.SIZE)).record
    size = boot.cluster_sectors * boot.fields.bytes_per_sector
    for start, end in _runs(data, volume.bytes // size if size else 0):
        yield start * size, min(end * size, volume.bytes)


def _fat(source: Source, volume: Volume) -> Iterator[tuple[int, int]]:
    """Everything up to the first cluster, and every cluster whose entry is not 0."""
    shape = fat_volume(source, volume)
    first = shape.fat_offsets[shape.fat_in_use] if shape.fat_offsets else 0
    table = source.read(volume.offset + first, min(shape.fat_bytes, WINDOW_BYTES)).data
    yield 0, shape.cluster_offset(fat.FIRST_CLUSTER)
    for number, entry in enumerate(fat.entries(table, shape.kind)):
        if number >= fat.FIRST_CLUSTER and entry:
            start = shape.cluster_offset(number)
            yield start, start + shape.cluster_bytes


def _runs(data: bytes, count: int) -> Iterator[tuple[int, int]]:
    """Runs of bits that are set, lowest bit first."""
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    bits = np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little")[: max(count, 0)]
    edges = np.flatnonzero(np.diff(np.concatenate(([0], bits, [0])).astype(np.int8)))
    yield from zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)


_MOST_FILES, _MOST_FOLDERS, _DEPTH = 2_000_000, 200_000, 64
_JOIN = 4096
"""Pieces with no more than this between them are read as one."""
_ENDS = 64 << 10
"""Bytes at both ends of a drive that hold its tables."""


class Worth(IntEnum):
    """What a part is worth, as a power of two; the best first."""

    START = 12
    """What starts the PC: tables, boot code, what a trace reads."""
    STRUCTURES = 10
    """What the file systems need to find everything else."""
    WANTED = 7
    """Files that were asked for; where nothing was asked, those of persons."""
    FILES = 4
    """All other files."""
    USED = 2
    """What the map of a volume calls in use, and no file was found for."""
    UNKNOWN = 1
    """What lies outside of volumes that could be walked."""
    REST = -9
    """What the map of a volume calls free."""


class Stretch(msgspec.Struct, frozen=True):
    """A range of the drive."""

    worth: Worth
    start: int
    end: int


class HeldFile(msgspec.Struct, frozen=True):
    """A file and where it lies on the drive."""

    path: str
    volume: int
    worth: Worth
    ranges: tuple[tuple[int, int], ...]


class Holdings(msgspec.Struct):
    """What was found.

    Attributes:
        unseen: folders and volumes that could not be walked, one sentence each.
        used: what the maps of the volumes call in use.
        mapped: volumes whose map could be read.
    """

    files: list[HeldFile]
    unseen: list[str]
    used: list[tuple[int, int]]
    mapped: ByteRanges

    def stretches(self, size: int, structures: ByteRanges) -> Iterator[Stretch]:
        """Every part, the best first; what is in none is the rest.

        Args:
            structures: what was asked for on the walk and did not come.
        """
        for start, end in structures:
            yield Stretch(Worth.STRUCTURES, start, end)
        yield Stretch(Worth.START, 0, min(_ENDS, size))
        yield Stretch(Worth.START, max(size - _ENDS, 0), size)
        for worth in (Worth.WANTED, Worth.FILES):
            places = sorted(
                place for file in self.files if file.worth is worth for place in file.ranges
            )
            yield from _joined(worth, places)
        yield from _joined(Worth.USED, sorted(self.used))
        for start, end in self.mapped.gaps(0, size):
            yield Stretch(Worth.UNKNOWN, start, end)
        yield Stretch(Worth.REST, 0, size)


def find_holdings(source: CopyingSource, wishes: FileWishes) -> Holdings:
    """Walk every volume that can be walked. All that is read on the way is safe afterwards.

    Raises:
        DriveGoneError: the drive does not answer any more.
    """
    found = Holdings([], [], [], ByteRanges())
    try:
        disk = survey(source)
        stitched, logical = with_logical_volumes(source, disk.volumes)
    except InputError as error:
        found.unseen.append(error.says)
        source.refuse_gone()
        return found
    for volume in (*disk.volumes, *logical):
        if not volume.extended and volume.kind.is_readable:
            _walk(stitched, volume, wishes, found)
            source.refuse_gone()
    return found


def _walk(source: Source, volume: Volume, wishes: FileWishes, found: Holdings) -> None:
    try:
        files = open_files(source, volume)
    except InputError as error:
        found.unseen.append(f"volume {volume.number}: {error.says}")
        return
    waiting, seen = ["/"], 0
    while waiting and seen < _MOST_FOLDERS and len(found.files) < _MOST_FILES:
        folder = waiting.pop()
        seen += 1
        try:
            inside = files.listing(folder)
        except FilesUnavailableError as error:
            found.unseen.append(f"{folder} on volume {volume.number}: {error.says}")
            continue
        for file in inside:
            if file.is_folder and not file.is_link:
                waiting += [file.path] if file.path.count("/") <= _DEPTH else []
            elif not file.is_link and file.bytes:
                held = _held(source, files, volume, file.path, wishes)
                if held is not None:
                    found.files.append(held)
        files.forget(folder)
    try:
        used = list(used_ranges(source, volume))
        for start, end in used:
            found.used += _places(source, volume.offset + start, end - start)
        for start, end in _places(source, volume.offset, volume.bytes if used else 0):
            found.mapped.add(start, end)
    except InputError as error:
        found.unseen.append(f"volume {volume.number}: its map of blocks: {error.says}")


def _held(
    source: Source, files: Files, volume: Volume, path: str, wishes: FileWishes
) -> HeldFile | None:
    """A file with its places; None where it has none of its own: small ones lie in structures that
    were read, and where holes or packing make it hard to tell, the rest has it.
    """
    try:
        found = files.find(path)
        extents = files.extents(found) if found is not None else None
    except FilesUnavailableError:
        return None
    if not extents:
        return None
    places: list[tuple[int, int]] = []
    for offset, length in extents:
        places += _places(source, volume.offset + offset, length)
    worth = Worth.WANTED if wishes.wants(path) else Worth.FILES
    return HeldFile(path, volume.number, worth, tuple(places))


def _places(source: Source, offset: int, length: int) -> Iterator[tuple[int, int]]:
    if isinstance(source, StitchedSource):
        yield from ((at, at + count) for at, count in source.places(offset, length))
    else:
        yield offset, offset + length


def _joined(worth: Worth, places: list[tuple[int, int]]) -> Iterator[Stretch]:
    """Places that nearly touch, as one stretch."""
    held: tuple[int, int] | None = None
    for start, end in places:
        if held is not None and start <= held[1] + _JOIN:
            held = (held[0], max(held[1], end))
            continue
        if held is not None:
            yield Stretch(worth, *held)
        held = (start, end)
    if held is not None:
        yield Stretch(worth, *held)
