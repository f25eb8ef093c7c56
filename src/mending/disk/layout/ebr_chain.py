"""The EBR chain of small tables inside an extended entry.

Each table in the chain looks like an MBR without code. Its first entry is a volume, counted from
the table itself; its second one leads to the next table, counted from the start of the extended
entry. Source: Linux kernel, `block/partitions/msdos.c`, function `parse_extended`; the UEFI
specification leaves the scheme out.
"""

import msgspec

from mending.formats.partition import mbr
from mending.model import ByteOffset, InputError, Lba, Problem
from mending.model.limits import EBR_TABLES
from mending.source import Source

FIRST_NUMBER = 5
"""Logical volumes are counted from 5 on, whatever the primary entries hold."""


class EbrChain(msgspec.Struct, frozen=True):
    """The volumes of one extended entry, with absolute first sectors, and what is wrong with the
    chain.
    """

    entries: tuple[mbr.PartitionEntry, ...]
    problems: tuple[Problem, ...]


def walk_ebr_chain(
    source: Source, extended: mbr.PartitionEntry, first_number: int = FIRST_NUMBER
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
