"""The MBR in the first sector of a disk: boot code, disk signature, four primary entries,
signature.

Source: UEFI Specification 2.10, section 5.2 (table 5-1 "Legacy MBR" and table 5-2, the partition
record).
"""

from itertools import combinations

import msgspec

from mending.model import (
    ByteOffset,
    Field,
    Layout,
    Lba,
    Problem,
    Reading,
    SectorCount,
    Window,
    hex_preview,
)

SIZE = 512
CODE_SIZE = 440
SIGNATURE = 0xAA55
ACTIVE = 0x80
GPT_PROTECTIVE = 0xEE
EFI_SYSTEM = 0xEF
TABLE_OFFSET = 446
_ENTRY_SIZE = 16
_EXTENDED = {0x05, 0x0F, 0x85}


class MbrFields(msgspec.Struct, frozen=True):
    """The sector as it is on the disk, with the table still in bytes."""

    code: bytes
    disk_signature: int
    reserved: int
    table: bytes
    signature: int


class MbrEntryFields(msgspec.Struct, frozen=True):
    """One 16-byte partition record as it is on the disk."""

    flag: int
    chs_first: bytes
    type: int
    chs_last: bytes
    first_lba: int
    sectors: int


MBR = Layout(
    MbrFields,
    SIZE,
    [
        Field("code", 0, CODE_SIZE, "bytes", "", "boot code"),
        Field("disk_signature", 440, 4, "u", "", "identifier of the disk"),
        Field("reserved", 444, 2, "u", "", "unknown; firmware leaves it alone"),
        Field("table", TABLE_OFFSET, 64, "bytes", "", "four partition records"),
        Field("signature", 510, 2, "u", "", "55 aa"),
    ],
)
ENTRY = Layout(
    MbrEntryFields,
    _ENTRY_SIZE,
    [
        Field("flag", 0, 1, "u", "", "80 active, 00 not"),
        Field("chs_first", 1, 3, "bytes", "", "first sector as cylinder, head, sector"),
        Field("type", 4, 1, "u", "", "type byte; 00 is an empty entry"),
        Field("chs_last", 5, 3, "bytes", "", "last sector as cylinder, head, sector"),
        Field("first_lba", 8, 4, "u", "sectors", "first sector"),
        Field("sectors", 12, 4, "u", "sectors", "length"),
    ],
)

TYPE_NAMES = {
    0x01: "FAT12",
    0x04: "FAT16, small",
    0x05: "extended, CHS",
    0x06: "FAT16",
    0x07: "NTFS or exFAT",
    0x0B: "FAT32, CHS",
    0x0C: "FAT32",
    0x0E: "FAT16, LBA",
    0x0F: "extended",
    0x27: "recovery",
    0x82: "Linux swap",
    0x83: "Linux",
    0x8E: "Linux LVM",
    0xAF: "HFS+",
    0xEE: "GPT protective",
    0xEF: "EFI system partition",
    0xFD: "Linux RAID",
}


class PartitionEntry(msgspec.Struct, frozen=True):
    """A used entry of the table.

    Attributes:
        number: 1 to 4, the place in the table.
        offset: where the 16 bytes lie, from the start of the disk.
    """

    number: int
    offset: ByteOffset
    flag: int
    type: int
    first_lba: Lba
    sectors: SectorCount

    @property
    def active(self) -> bool:
        """Whether the active flag is set, as the specification writes it."""
        return self.flag == ACTIVE

    @property
    def last_lba_inclusive(self) -> Lba:
        """Last sector of the partition."""
        return Lba(self.first_lba + max(self.sectors, 1) - 1)

    @property
    def extended(self) -> bool:
        """Whether this entry only holds further tables."""
        return self.type in _EXTENDED

    @property
    def type_name(self) -> str:
        """The type byte in plain words."""
        return TYPE_NAMES.get(self.type, f"type {self.type:02x}")


class MasterBootRecord(msgspec.Struct, frozen=True):
    """A judged MBR.

    Attributes:
        offset: where the sector starts, in bytes.
        entries: the used entries, in the order of the table.
    """

    offset: ByteOffset
    fields: MbrFields
    entries: tuple[PartitionEntry, ...]

    @property
    def active(self) -> tuple[PartitionEntry, ...]:
        """Entries whose active flag is set."""
        return tuple(entry for entry in self.entries if entry.active)

    @property
    def protective(self) -> bool:
        """Whether the table says that the real one is a GPT."""
        return any(entry.type == GPT_PROTECTIVE for entry in self.entries)

    @property
    def code_blank(self) -> bool:
        """Whether there is no boot code at all."""
        return Window(self.fields.code).blank


def read(window: Window, disk_sectors: SectorCount | None = None) -> Reading[MasterBootRecord]:
    """Read an MBR.

    Args:
        window: starts at the sector; at least 512 bytes.
        disk_sectors: size of the disk, to judge where entries end; unknown is fine.

    Raises:
        InputError: fewer than 512 bytes.
    """
    fields = MBR.read(window)
    entries = tuple(_entries(window))
    problems = [
        *_signature(window, fields),
        *_flags(entries),
        *_extents(entries, disk_sectors),
        *_overlaps(entries),
    ]
    return Reading(MasterBootRecord(ByteOffset(window.offset), fields, entries), tuple(problems))


def encode_entry(flag: int, kind: int, first_lba: Lba, sectors: SectorCount) -> bytes:
    """One partition record; CHS fields are filled for a geometry of 255 heads and 63 sectors a
    track.
    """
    last = first_lba + sectors - 1
    return ENTRY.encode(MbrEntryFields(flag, chs(first_lba), kind, chs(last), first_lba, sectors))


def chs(lba: int, heads: int = 255, per_track: int = 63) -> bytes:
    """An LBA as the three CHS bytes of a partition record; fe ff ff where it does not fit in 1024
    cylinders.
    """
    cylinder, rest = divmod(lba, heads * per_track)
    head, sector = divmod(rest, per_track)
    if cylinder > 1023:
        return b"\xfe\xff\xff"
    return bytes((head, (cylinder >> 8) << 6 | sector + 1, cylinder & 0xFF))


def _entries(window: Window) -> list[PartitionEntry]:
    found = []
    for number in range(4):
        at = TABLE_OFFSET + number * _ENTRY_SIZE
        raw = ENTRY.read(window, at)
        if raw.type or raw.sectors:
            place = ByteOffset(window.offset + at)
            found.append(
                PartitionEntry(
                    number + 1,
                    place,
                    raw.flag,
                    raw.type,
                    Lba(raw.first_lba),
                    SectorCount(raw.sectors),
                )
            )
    return found


def _signature(window: Window, fields: MbrFields) -> list[Problem]:
    if fields.signature == SIGNATURE:
        return []
    found = hex_preview(window.take(510, 2))
    return [MBR.wrong("signature", window.offset, "signature-missing", found, "55 aa")]


def _flags(entries: tuple[PartitionEntry, ...]) -> list[Problem]:
    return [
        Problem("flag-odd", entry.offset, 1, f"{entry.flag:02x}", "80 or 00")
        for entry in entries
        if entry.flag not in {0, ACTIVE}
    ]


def _extents(
    entries: tuple[PartitionEntry, ...], disk_sectors: SectorCount | None
) -> list[Problem]:
    problems = []
    for entry in entries:
        if entry.sectors == 0:
            problems.append(
                Problem("entry-empty", entry.offset + 12, 4, "0 sectors", "at least one")
            )
        elif entry.first_lba == 0:
            problems.append(
                Problem("entry-at-zero", entry.offset + 8, 4, "sector 0", "behind the MBR")
            )
        elif (
            disk_sectors is not None
            and entry.last_lba_inclusive >= disk_sectors
            and entry.type != GPT_PROTECTIVE
        ):
            found, wanted = (
                f"ends at sector {entry.last_lba_inclusive}",
                f"at most sector {disk_sectors - 1}",
            )
            problems.append(Problem("entry-past-end", entry.offset + 8, 8, found, wanted))
    return problems


def _overlaps(entries: tuple[PartitionEntry, ...]) -> list[Problem]:
    problems = []
    for first, second in combinations([entry for entry in entries if entry.sectors], 2):
        if (
            first.first_lba <= second.last_lba_inclusive
            and second.first_lba <= first.last_lba_inclusive
        ):
            found = f"entry {second.number} overlaps entry {first.number}"
            problems.append(
                Problem("entries-overlap", second.offset + 8, 8, found, "apart from each second")
            )
    return problems
