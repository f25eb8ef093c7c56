"""Both copies of a GUID partition table, and which of them is to be believed.

One copy is at the start of the disk, one at its end, each a header with the sums of itself and of
its entries. Firmware takes the first whose sums hold, so a fault in one copy alone stops nothing,
but is worth telling. The second is looked for where the first one says, and in the last sector: a
disk that was copied to a larger one has it in neither. Where both are sound and differ, an old tool
changed one of them; then the first counts, as it does for firmware, and that they differ is said.
"""

import msgspec

from mending.formats import fat, gpt, mbr, ntfs
from mending.model import ByteOffset, InputError, Lba, Problem, ReadError, Window
from mending.model.limits import EBR_TABLES
from mending.source import Source, TargetKind


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


# The EBR chain of small tables inside an extended entry.
#
# Each table in the chain looks like an MBR without code. Its first entry is a volume, counted from
# the table itself; its second one leads to the next table, counted from the start of the extended
# entry. Source: Linux kernel, `block/partitions/msdos.c`, function `parse_extended`; the UEFI
# specification leaves the scheme out.


FIRST_IN_EXTENDED = 5
"""Logical volumes are counted from 5 on, whatever the primary entries hold."""


class EbrChain(msgspec.Struct, frozen=True):
    """The volumes of one extended entry, with absolute first sectors, and what is wrong with the
    chain.
    """

    entries: tuple[mbr.PartitionEntry, ...]
    problems: tuple[Problem, ...]


def walk_ebr_chain(
    source: Source, extended: mbr.PartitionEntry, first_number: int = FIRST_IN_EXTENDED
) -> EbrChain:
    """Follow the chain. It ends at a table without a second entry, at damage, at a loop, or at the
    limit.
    """
    entries: list[mbr.PartitionEntry] = []
    problems: list[Problem] = []
    seen: set[int] = set()
    lba: int | None = extended.first_lba
    while lba is not None:
        fault = _fault(source, extended, lba, seen)
        if fault is not None:
            problems.append(fault)
            break
        seen.add(lba)
        found, lba = _table(source, extended, Lba(lba), first_number + len(entries))
        entries += found
    problems += _overlaps(entries, extended)
    return EbrChain(tuple(entries), tuple(problems))


def _fault(
    source: Source, extended: mbr.PartitionEntry, lba: int, seen: set[int]
) -> Problem | None:
    offset = ByteOffset(lba * source.bytes_per_sector)
    if lba in seen:
        return Problem(
            "logical-loop",
            offset,
            mbr.SIZE,
            f"a table at sector {lba} for the second time",
            "a new one",
        )
    if len(seen) >= EBR_TABLES:
        return Problem(
            "logical-too-many", offset, mbr.SIZE, f"more than {EBR_TABLES} tables", "fewer"
        )
    if not extended.first_lba <= lba <= extended.last_lba_inclusive:
        return Problem(
            "logical-outside",
            offset,
            mbr.SIZE,
            f"a table at sector {lba}",
            "inside the extended entry",
        )
    try:
        reading = mbr.read(source.read(offset, mbr.SIZE))
    except InputError:
        return Problem("logical-unreadable", offset, mbr.SIZE, "nothing readable", "a table")
    if reading.has("signature-missing"):
        return Problem("logical-missing", offset, mbr.SIZE, "no 55 aa", "a table")
    return None


def _table(
    source: Source, extended: mbr.PartitionEntry, lba: Lba, number: int
) -> tuple[list[mbr.PartitionEntry], int | None]:
    """The volume that a sound table lists, and where the next table is."""
    listed = mbr.read(source.read(lba * source.bytes_per_sector, mbr.SIZE)).record.entries
    volumes = [entry for entry in listed if not entry.extended]
    links = [entry for entry in listed if entry.extended]
    found = [
        msgspec.structs.replace(entry, number=number + count, first_lba=Lba(lba + entry.first_lba))
        for count, entry in enumerate(volumes)
    ]
    return found, extended.first_lba + links[0].first_lba if links else None


def _overlaps(entries: list[mbr.PartitionEntry], extended: mbr.PartitionEntry) -> list[Problem]:
    problems = []
    for number, entry in enumerate(entries):
        if entry.last_lba_inclusive > extended.last_lba_inclusive:
            found = f"volume {entry.number} ends at sector {entry.last_lba_inclusive}"
            problems.append(
                Problem("logical-past-end", entry.offset, 16, found, "inside the extended entry")
            )
        for other in entries[:number]:
            if (
                entry.first_lba <= other.last_lba_inclusive
                and other.first_lba <= entry.last_lba_inclusive
            ):
                found = f"volume {entry.number} overlaps volume {other.number}"
                problems.append(
                    Problem("logical-overlap", entry.offset, 16, found, "apart from each other")
                )
    return problems


# Which sector size an image was made with. A device says it; an image has to be asked.


_SIZES = (512, 4096)


def settle_sector_size(source: Source, given: int | None = None) -> int:
    """The sector size in bytes, by what the tables and boot sectors on the disk agree with; 512
    when nothing speaks.

    Args:
        given: a size the person insists on; then nothing is looked at.
    """
    if given is not None:
        return given
    if source.kind is TargetKind.DEVICE:
        return source.bytes_per_sector
    try:
        return next((size for size in _SIZES if _fits(source, size)), _SIZES[0])
    except ReadError:
        return _SIZES[0]


def _fits(source: Source, size: int) -> bool:
    if any(_header(source, at, size) for at in (size, source.size - size)):
        return True
    sector = source.read(0, mbr.SIZE)
    if len(sector) < mbr.SIZE:
        return False
    return any(
        _names_size(source, entry.first_lba * size, size)
        for entry in mbr.read(sector).record.entries
    )


def _header(source: Source, offset: int, size: int) -> bool:
    """Whether a sound GPT header lies at `offset` for sectors of `size` bytes."""
    window = source.read(offset, size)
    if len(window) < size or offset % size or not gpt.has_signature(window):
        return False
    return not gpt.read_header(window, Lba(offset // size)).has("my-lba")


def _names_size(source: Source, offset: int, size: int) -> bool:
    """Whether a boot sector at `offset` says that its sectors are `size` bytes long."""
    window = source.read(offset, fat.SIZE)
    if not (fat.looks_like(window) or ntfs.looks_like(window)):
        return False
    return fat.COMMON.read(window).bytes_per_sector == size
