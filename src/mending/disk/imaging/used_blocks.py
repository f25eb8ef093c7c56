"""What a file system says is in use, by its map of blocks: what no file was found for, too."""

from collections.abc import Iterator

from mending.disk.ext import ExtVolume
from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.volume import Volume, fat_volume
from mending.formats.filesystem import fat_tables, ntfs
from mending.model import FilesystemKind
from mending.model.limits import WINDOW_BYTES
from mending.source import Source

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
    yield 0, shape.cluster_offset(fat_tables.FIRST_CLUSTER)
    for number, entry in enumerate(fat_tables.entries(table, shape.kind)):
        if number >= fat_tables.FIRST_CLUSTER and entry:
            start = shape.cluster_offset(number)
            yield start, start + shape.cluster_bytes


def _runs(data: bytes, count: int) -> Iterator[tuple[int, int]]:
    """Runs of bits that are set, lowest bit first."""
    import numpy as np  # noqa: PLC0415 - lazy, for it is slow to load

    bits = np.unpackbits(np.frombuffer(data, np.uint8), bitorder="little")[: max(count, 0)]
    edges = np.flatnonzero(np.diff(np.concatenate(([0], bits, [0])).astype(np.int8)))
    yield from zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True)
