"""GUID partition tables: a header, an array of entries, and a second copy of both at the end of the
disk.

Source: UEFI Specification 2.10, section 5.3: table 5-5 "GPT Header", table 5-6 "GPT Partition
GptEntry"; section 5.2.3 for the protective MBR. CRC-32 is the one of ISO 3309, as in zlib.
"""

import uuid
import zlib
from itertools import combinations

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    InputError,
    Layout,
    Lba,
    Problem,
    Reading,
    Window,
    plain_utf16,
)

SIGNATURE = b"EFI PART"
HEADER_SIZE = 92
ENTRY_SIZE = 128
COUNT = 128
REVISION = 0x00010000
_MOST_ENTRIES = 1024
"""Eight times the usual number; a damaged count must not cost memory."""
UNUSED = uuid.UUID(int=0)
GUIDS_ALIKE = "guids-alike"
ENTRY_PROBLEMS = {"entry-outside", "entries-overlap", GUIDS_ALIKE}
"""Wrong in single entries; the copy as a whole is believed all the same."""
EFI_SYSTEM = uuid.UUID("c12a7328-f81f-11d2-ba4b-00a0c93ec93b")
BIOS_BOOT, RESERVED = "BIOS boot partition", "reserved by the system"
TYPE_NAMES = {
    EFI_SYSTEM: "EFI system partition",
    uuid.UUID("21686148-6449-6e6f-744e-656564454649"): BIOS_BOOT,
    uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"): "data",
    uuid.UUID("e3c9e316-0b5c-4db8-817d-f92df00215ae"): RESERVED,
    uuid.UUID("de94bba4-06d1-4d40-a16a-bfd50179d6ac"): "recovery",
    uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4"): "Linux",
    uuid.UUID("4f68bce3-e8cd-4db1-96e7-fbcaf984b709"): "Linux root, x86-64",
    uuid.UUID("bc13c2ff-59e6-4262-a352-b275fd6f7172"): "Linux boot",
    uuid.UUID("0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"): "Linux swap",
    uuid.UUID("e6d6d379-f507-44c2-a23c-238f2a3df928"): "Linux LVM",
    uuid.UUID("48465300-0000-11aa-aa11-00306543ecac"): "HFS+",
    uuid.UUID("7c3457ef-0000-11aa-aa11-00306543ecac"): "APFS",
}


class Header(msgspec.Struct, frozen=True):
    """A header as it is on the disk."""

    signature: bytes
    revision: int
    header_size: int
    header_crc: int
    reserved: int
    my_lba: int
    alternate_lba: int
    first_usable_lba: int
    last_usable_lba_inclusive: int
    disk_guid: bytes
    entries_lba: int
    entry_count: int
    entry_size: int
    entries_crc: int


class GptEntryFields(msgspec.Struct, frozen=True):
    """A partition entry as it is on the disk."""

    type: bytes
    guid: bytes
    first_lba: int
    last_lba_inclusive: int
    attributes: int
    name: bytes


HEADER = Layout(
    Header,
    HEADER_SIZE,
    [
        Field("signature", 0, 8, "bytes", "", "EFI PART"),
        Field("revision", 8, 4, "u", "", "1.0"),
        Field("header_size", 12, 4, "u", "bytes", "part of the sector that the CRC covers"),
        Field("header_crc", 16, 4, "u", "", "CRC-32 of the header with this field 0"),
        Field("reserved", 20, 4, "u", "", "0"),
        Field("my_lba", 24, 8, "u", "sectors", "where this header is"),
        Field("alternate_lba", 32, 8, "u", "sectors", "where the other header is"),
        Field("first_usable_lba", 40, 8, "u", "sectors", "first sector for partitions"),
        Field("last_usable_lba_inclusive", 48, 8, "u", "sectors", "last sector for partitions"),
        Field("disk_guid", 56, 16, "bytes", "", "identifier of the disk"),
        Field("entries_lba", 72, 8, "u", "sectors", "first sector of the entries"),
        Field("entry_count", 80, 4, "u", "", "number of entries, used or not"),
        Field("entry_size", 84, 4, "u", "bytes", "128 times a power of two"),
        Field("entries_crc", 88, 4, "u", "", "CRC-32 of all entries"),
    ],
)
ENTRY = Layout(
    GptEntryFields,
    ENTRY_SIZE,
    [
        Field("type", 0, 16, "bytes", "", "type, all 00 for an unused entry"),
        Field("guid", 16, 16, "bytes", "", "identifier of the partition"),
        Field("first_lba", 32, 8, "u", "sectors", "first sector"),
        Field("last_lba_inclusive", 40, 8, "u", "sectors", "last sector"),
        Field("attributes", 48, 8, "u", "", "flags"),
        Field("name", 56, 72, "bytes", "", "name in UTF-16"),
    ],
)


class GptEntry(msgspec.Struct, frozen=True):
    """A used entry. `number` counts from 1; `offset` is where its bytes lie on the disk."""

    number: int
    offset: ByteOffset
    type: uuid.UUID
    guid: uuid.UUID
    first_lba: Lba
    last_lba_inclusive: Lba
    name: str

    @property
    def type_name(self) -> str:
        """The type in plain words."""
        return TYPE_NAMES.get(self.type, f"type {self.type}")


def has_signature(window: Window) -> bool:
    """Whether the window starts with the signature of a header."""
    return window.data[:8] == SIGNATURE


def read_header(window: Window, lba: Lba) -> Reading[Header]:
    """Read the header that lies in sector `lba`; the window holds that whole sector.

    Raises:
        InputError: fewer than 92 bytes.
    """
    header = HEADER.read(window)
    found: list[Problem] = []

    def wrong(name: str, code: str, value: object, expected: str) -> None:
        found.append(HEADER.wrong(name, window.offset, code, value, expected))

    if header.signature != SIGNATURE:
        wrong("signature", "signature-missing", header.signature.hex(" "), "EFI PART")
        return Reading(header, tuple(found))  # nothing else in the sector means anything
    if not HEADER_SIZE <= header.header_size <= len(window):
        wrong(
            "header_size",
            "header-size",
            header.header_size,
            f"{HEADER_SIZE} to {len(window)} bytes",
        )
    elif header_crc(window.data, header.header_size) != header.header_crc:
        wanted = header_crc(window.data, header.header_size)
        wrong("header_crc", "header-crc", f"{header.header_crc:08x}", f"{wanted:08x}")
    if header.my_lba != lba:
        wrong("my_lba", "my-lba", f"sector {header.my_lba}", f"sector {lba}")
    if not 0 < header.entry_count <= _MOST_ENTRIES:
        wrong("entry_count", "entry-count", header.entry_count, f"1 to {_MOST_ENTRIES}")
    if header.entry_size < ENTRY_SIZE or header.entry_size % ENTRY_SIZE or header.entry_size > 4096:
        wrong("entry_size", "entry-size", header.entry_size, "128 times a power of two")
    if header.first_usable_lba > header.last_usable_lba_inclusive:
        wrong(
            "first_usable_lba",
            "usable-range",
            header.first_usable_lba,
            "before the last usable sector",
        )
    return Reading(header, tuple(found))


def read_entries(window: Window, header: Header) -> Reading[tuple[GptEntry, ...]]:
    """Read the entries that a sound header names; the window starts at them.

    Raises:
        InputError: the window is shorter than the array, or the header's count or size of entries
            cannot be.
    """
    if not _possible_array(header):
        raise InputError(
            f"A GPT of {header.entry_count} entries of {header.entry_size} bytes cannot be."
        )
    length = header.entry_count * header.entry_size
    crc = zlib.crc32(window.take(0, length))
    problems = []
    if crc != header.entries_crc:
        found, wanted = f"CRC-32 {crc:08x}", f"{header.entries_crc:08x} as the header says"
        problems.append(Problem("entries-crc", window.offset, length, found, wanted))
    entries = [_entry(window, number, header) for number in range(header.entry_count)]
    used = tuple(entry for entry in entries if entry.type != UNUSED)
    return Reading(used, (*problems, *_extents(used, header)))


def _possible_array(header: Header) -> bool:
    return 0 < header.entry_count <= _MOST_ENTRIES and ENTRY_SIZE <= header.entry_size <= 4096


def header_crc(sector: bytes, size: int) -> int:
    """CRC-32 of a header of `size` bytes, its own CRC field taken as 0."""
    return zlib.crc32(sector[:16] + bytes(4) + sector[20:size])


def sealed(header: Header) -> bytes:
    """The header's 92 bytes with the right CRC."""
    data = HEADER.encode(msgspec.structs.replace(header, header_size=HEADER_SIZE, header_crc=0))
    return HEADER.patch(data, header_crc=header_crc(data, HEADER_SIZE))


def encode_entry(
    kind: uuid.UUID, guid: uuid.UUID, first_lba: int, last_lba_inclusive: int, name: str
) -> bytes:
    """One entry of 128 bytes."""
    text = name.encode("utf-16-le")
    return ENTRY.encode(
        GptEntryFields(kind.bytes_le, guid.bytes_le, first_lba, last_lba_inclusive, 0, text)
    )


def fresh_copies(
    disk: uuid.UUID,
    entries: bytes,
    sectors: int,
    bytes_per_sector: int,
    usable: tuple[int, int] | None = None,
) -> list[tuple[str, int, bytes]]:
    """A new table of 128 entries: name, first sector and bytes of each of its four parts, entries
    before headers.

    Args:
        entries: the used entries, 128 bytes each.
        sectors: length of the disk.
        usable: first and last sector for partitions; None for all that is left.
    """
    room = -(-COUNT * ENTRY_SIZE // bytes_per_sector)
    last = sectors - 1
    first_usable, last_usable = usable or (2 + room, last - room - 1)
    array = entries.ljust(COUNT * ENTRY_SIZE, b"\0")
    parts = []
    for name, here, other, start in (("primary", 1, last, 2), ("backup", last, 1, last - room)):
        header = Header(
            signature=SIGNATURE,
            revision=REVISION,
            header_size=HEADER_SIZE,
            header_crc=0,
            reserved=0,
            my_lba=here,
            alternate_lba=other,
            first_usable_lba=first_usable,
            last_usable_lba_inclusive=last_usable,
            disk_guid=disk.bytes_le,
            entries_lba=start,
            entry_count=COUNT,
            entry_size=ENTRY_SIZE,
            entries_crc=zlib.crc32(array),
        )
        parts.append((f"the {name} entries", start, array.ljust(room * bytes_per_sector, b"\0")))
        parts.append((f"the {name} header", here, sealed(header).ljust(bytes_per_sector, b"\0")))
    return parts


def resealed(header: Header, entries: bytes, bytes_per_sector: int) -> list[tuple[str, int, bytes]]:
    """One copy of a table with other entries: name, first sector and bytes of its two parts,
    entries first.
    """
    changed = msgspec.structs.replace(header, entries_crc=zlib.crc32(entries))
    room = -(-len(entries) // bytes_per_sector) * bytes_per_sector
    return [
        ("entries", header.entries_lba, entries.ljust(room, b"\0")),
        ("header", header.my_lba, sealed(changed).ljust(bytes_per_sector, b"\0")),
    ]


def _entry(window: Window, number: int, header: Header) -> GptEntry:
    at = number * header.entry_size
    raw = ENTRY.read(window, at)
    return GptEntry(
        number + 1,
        ByteOffset(window.offset + at),
        uuid.UUID(bytes_le=raw.type),
        uuid.UUID(bytes_le=raw.guid),
        Lba(raw.first_lba),
        Lba(raw.last_lba_inclusive),
        plain_utf16(raw.name),
    )


def inside(entry: GptEntry, header: Header) -> bool:
    """Whether an entry keeps to the space for partitions."""
    first, last = header.first_usable_lba, header.last_usable_lba_inclusive
    return first <= entry.first_lba <= entry.last_lba_inclusive <= last


def overlap(entry: GptEntry, other: GptEntry) -> bool:
    """Whether two entries share a sector."""
    return (
        entry.first_lba <= other.last_lba_inclusive and other.first_lba <= entry.last_lba_inclusive
    )


def _extents(entries: tuple[GptEntry, ...], header: Header) -> list[Problem]:
    problems = []
    for entry in entries:
        if not inside(entry, header):
            found = f"entry {entry.number}: sectors {entry.first_lba} to {entry.last_lba_inclusive}"
            wanted = f"{header.first_usable_lba} to {header.last_usable_lba_inclusive}"
            problems.append(Problem("entry-outside", entry.offset, ENTRY_SIZE, found, wanted))
    for first, second in combinations(entries, 2):
        if overlap(first, second):
            found = f"entry {second.number} overlaps entry {first.number}"
            problems.append(
                Problem(
                    "entries-overlap", second.offset, ENTRY_SIZE, found, "apart from each second"
                )
            )
        if first.guid == second.guid:
            found = (
                f"entries {first.number} and {second.number} have the same identifier {first.guid}"
            )
            problems.append(Problem(GUIDS_ALIKE, second.offset + 16, 16, found, "one for each"))
    return problems
