"""Both copies of a GUID partition table, and which of them is to be believed.

One copy is at the start of the disk, one at its end, each a header with the sums of itself and of
its entries. Firmware takes the first whose sums hold, so a fault in one copy alone stops nothing,
but is worth telling. The second is looked for where the first one says, and in the last sector: a
disk that was copied to a larger one has it in neither. Where both are sound and differ, an old tool
changed one of them; then the first counts, as it does for firmware, and that they differ is said.
"""

import msgspec

from mending.formats.partition import gpt
from mending.model import ByteOffset, InputError, Lba, Problem, ReadError, Window
from mending.source import Source


class GptCopy(msgspec.Struct, frozen=True):
    """One copy: where its header was looked for, what is there, and everything wrong with it.

    Attributes:
        header: None where the sector cannot be read or holds no header at all.
        entries: used entries; empty where the array cannot be read.
    """

    lba: Lba
    header: gpt.Header | None
    entries: tuple[gpt.GptEntry, ...]
    entry_bytes: bytes
    problems: tuple[Problem, ...]

    @property
    def sound(self) -> bool:
        """Whether header and entries are there with their checksums."""
        return self.header is not None and all(
            problem.code in gpt.ENTRY_PROBLEMS for problem in self.problems
        )

    @property
    def passed_over(self) -> frozenset[int]:
        """Numbers of the entries that firmware does not look at: outside, or sharing sectors with
        another.
        """
        listed, header = self.entries, self.header
        if header is None:
            return frozenset()
        outside = {entry.number for entry in listed if not gpt.inside(entry, header)}
        shared = {
            entry.number
            for entry in listed
            for other in listed
            if entry is not other and gpt.overlap(entry, other)
        }
        return frozenset(outside | shared)


class Gpt(msgspec.Struct, frozen=True):
    """The table of one disk."""

    primary: GptCopy
    backup: GptCopy

    @property
    def believed(self) -> GptCopy | None:
        """The copy to read volumes from; None where neither is sound."""
        return self.primary if self.primary.sound else self.backup if self.backup.sound else None

    @property
    def agree(self) -> bool:
        """Whether two sound copies say the same of disk and partitions."""
        header, other = self.primary.header, self.backup.header
        if header is None or other is None:
            return False
        return self.primary.entry_bytes == self.backup.entry_bytes and _shared(header) == _shared(
            other
        )


def read_gpt(source: Source) -> Gpt:
    """Read both copies; the second where the first one says, else in the last sector of the
    disk.
    """
    last = Lba(source.size // source.bytes_per_sector - 1)
    primary = _copy(source, Lba(1))
    named = (
        Lba(primary.header.alternate_lba) if primary.sound and primary.header is not None else last
    )
    backup = _copy(source, named)
    if backup.header is None and named != last:
        backup = _copy(source, last)
    return Gpt(primary, backup)


def _shared(header: gpt.Header) -> tuple[object, ...]:
    return (
        header.disk_guid,
        header.first_usable_lba,
        header.last_usable_lba_inclusive,
        header.entry_count,
        header.entry_size,
    )


def _copy(source: Source, lba: Lba) -> GptCopy:
    size = source.bytes_per_sector
    offset = ByteOffset(lba * size)
    try:
        window = source.read(offset, size)
    except ReadError as error:
        return _no_copy(
            lba, Problem("unreadable", error.offset, error.length, "a read error", "a header")
        )
    if len(window) < size:
        return _no_copy(
            lba, Problem("outside", offset, size, f"sector {lba}", "a sector of this disk")
        )
    reading = gpt.read_header(window, lba)
    if reading.has("signature-missing"):
        blank = "blank" if window.blank else "no header"
        return _no_copy(lba, Problem("signature-missing", offset, 8, blank, "EFI PART"))
    if reading.problems:
        return GptCopy(lba, reading.record, (), b"", reading.problems)
    return _with_entries(source, lba, reading.record)


def _with_entries(source: Source, lba: Lba, header: gpt.Header) -> GptCopy:
    length = header.entry_count * header.entry_size
    offset = ByteOffset(header.entries_lba * source.bytes_per_sector)
    try:
        window: Window = source.read(offset, length)
        reading = gpt.read_entries(window, header)
    except InputError:  # a bad sector, or an array that leaves the disk
        problem = Problem(
            "entries-unreadable", offset, length, "nothing readable", "the array of entries"
        )
        return GptCopy(lba, header, (), b"", (problem,))
    return GptCopy(lba, header, reading.record, window.data[:length], reading.problems)


def _no_copy(lba: Lba, problem: Problem) -> GptCopy:
    return GptCopy(lba, None, (), b"", (problem,))
