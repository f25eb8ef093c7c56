"""What is left of a GPT whose headers are both damaged: entries that agree with what lies on the
disk are kept to the last bit, so that nothing that names a partition has to change.

Both arrays of entries are looked at where a table of the usual size keeps them. An entry agrees
when a volume that was found begins where it does and ends within it. One behind which nothing was
found is kept, too, as long as it is in nobody's way: it may hold no file system on purpose.
"""

import zlib
from collections.abc import Sequence

import msgspec

from mending.disk.layout import Disk
from mending.formats.partition import gpt
from mending.model import InputError, Window

_ARRAY = gpt.COUNT * gpt.ENTRY_SIZE
Span = tuple[int, int]
"""First sector and number of sectors of a volume that was found."""


def kept_entries(disk: Disk, spans: Sequence[Span]) -> bytes:
    """The array of the copy of which most entries agree, without those that cannot be; empty where
    none agrees.
    """
    size = disk.source.bytes_per_sector
    room = -(-_ARRAY // size)
    best, most = b"", 0
    for lba in (2, disk.sectors - 1 - room):
        array, agreeing = _sifted(disk, lba * size, spans)
        if agreeing > most:
            best, most = array, agreeing
    return best


def usable_range(disk: Disk, spans: Sequence[Span]) -> tuple[int, int] | None:
    """First and last sector for partitions, as a damaged header still tells them; None where that
    cannot be.
    """
    for copy in (disk.gpt.primary, disk.gpt.backup) if disk.gpt else ():
        header = copy.header
        if header is None:
            continue
        first, last = header.first_usable_lba, header.last_usable_lba_inclusive
        room = -(-_ARRAY // disk.source.bytes_per_sector)
        inside = all(first <= start and start + count - 1 <= last for start, count in spans)
        if inside and 2 + room <= first <= last < disk.sectors - 1 - room:
            return first, last
    return None


def with_new_entries(array: bytes, entries: Sequence[tuple[Span, bytes]]) -> bytes:
    """The array, with entries of those volumes added that it does not list, in free places."""
    slots = [array[at : at + gpt.ENTRY_SIZE] for at in range(0, len(array), gpt.ENTRY_SIZE)]
    slots += [bytes(gpt.ENTRY_SIZE)] * (gpt.COUNT - len(slots))
    listed = {int.from_bytes(slot[32:40], "little") for slot in slots if any(slot[:16])}
    free = (number for number, slot in enumerate(slots) if not any(slot[:16]))
    for (start, _), entry in entries:
        if start not in listed:
            slots[next(free)] = entry
    return b"".join(slots)


def _sifted(disk: Disk, offset: int, spans: Sequence[Span]) -> tuple[bytes, int]:
    """An array without the entries that cannot be, and how many agree."""
    try:
        window = disk.source.read(offset, _ARRAY)
        entries = gpt.read_entries(window, _header_for(window)).record
    except InputError:
        return b"", 0
    array, agreeing = bytearray(window.data), 0
    kept: list[gpt.GptEntry] = []
    for entry in entries:
        first, last = entry.first_lba, entry.last_lba_inclusive
        ours = [span for span in spans if span[0] <= last and first < span[0] + span[1]]
        agrees = all(span[0] == first and first + span[1] - 1 <= last for span in ours)
        fits = 0 < first <= last < disk.sectors and not any(
            gpt.overlap(entry, each) for each in kept
        )
        if agrees and fits:
            kept.append(entry)
            agreeing += len(ours)
        else:
            at = (entry.number - 1) * gpt.ENTRY_SIZE
            array[at : at + gpt.ENTRY_SIZE] = bytes(gpt.ENTRY_SIZE)
    return bytes(array), agreeing


def _header_for(window: Window) -> gpt.Header:
    """A header by which an array of the usual size is read."""
    blank = gpt.HEADER.read(Window(bytes(gpt.HEADER_SIZE)))
    return msgspec.structs.replace(
        blank,
        entry_count=gpt.COUNT,
        entry_size=gpt.ENTRY_SIZE,
        entries_crc=zlib.crc32(window.data),
        last_usable_lba_inclusive=(1 << 63),
    )
