"""Sound disks of the Skerrivane Ferries, one for each kind of firmware, and the ways in which they
get broken.
"""

import uuid
from collections.abc import Callable, Mapping
from pathlib import Path

from mending.formats.partition import gpt, mbr
from mending.model import Lba, SectorCount
from mending.workshop.fat32 import RESERVED, fat32_volume, fat_sectors
from mending.workshop.guid_table import put_guid_table
from mending.workshop.image import SECTOR, ImageDraft

DISK_SECTORS = 204_800
DESK = (Lba(2048), SectorCount(81_920))
STORE = (Lba(83_968), SectorCount(81_920))
MARKER = "Skerrivane Ferries: ticket desk loader reached."
"""What a sample PC says on its screen when its chain works."""
_FAT32_LBA = 0x0C
_DATA_TYPE = uuid.UUID("ebd0a0a2-b9e5-4433-87c0-68b6b72699c7")
DISK_GUID = uuid.uuid5(uuid.NAMESPACE_DNS, "skerrivane.example")
_NOTES = {
    "TICKETS/PRICES.TXT": b"Skerrivane to Holm: 12.40\r\n" * 40,
    "TICKETS/TIMES.TXT": b"08:10 11:40 17:25\r\n" * 20,
}
_FALLBACK = "EFI/BOOT/BOOTX64.EFI"

Fault = Callable[[ImageDraft], None]


def code(name: str) -> bytes:
    """One of the committed binaries beside this module."""
    return (Path(__file__).parent / "code" / f"{name}.bin").read_bytes()


def bios_disk(boot_code: bytes) -> ImageDraft:
    """100 MiB: boot code, an active FAT32 volume with a loader, and a second volume for data."""
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    table = mbr.encode_entry(mbr.ACTIVE, _FAT32_LBA, *DESK) + mbr.encode_entry(
        0, _FAT32_LBA, *STORE
    )
    fields = mbr.MbrFields(boot_code, 0x5C0FF1CE, 0, table, mbr.SIGNATURE)
    draft.put(0, mbr.MBR.encode(fields))
    _put_volumes(draft, "TICKETDESK", {"DESKLOAD.BIN": code("desk-loader")})
    return draft


def uefi_disk(loader: bytes | None = None) -> ImageDraft:
    """100 MiB: a GPT, an EFI system partition with a fallback loader, and a second volume for
    data.
    """
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    put_guid_table(
        draft, DISK_GUID, [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_DATA_TYPE, *STORE, "tickets")]
    )
    _put_volumes(draft, "EFI", {_FALLBACK: code("desk-loader-efi") if loader is None else loader})
    return draft


def truncated_loader() -> bytes:
    """The first half of the loader file, as a full volume or a broken copy leaves it."""
    return code("desk-loader-efi")[:1024]


def put_desk(
    draft: ImageDraft, label: str, contents: Mapping[str, bytes], boot: bytes | None = None
) -> None:
    """Lay the first volume, FAT32 with these files.

    Args:
        boot: its boot sector where that is not the workshop's own.
    """
    _put_fat32(draft, DESK, label, contents, boot)


def _put_volumes(draft: ImageDraft, label: str, contents: Mapping[str, bytes]) -> None:
    put_desk(draft, label, contents)
    _put_fat32(draft, STORE, "TICKETS", _NOTES)


def _put_fat32(
    draft: ImageDraft,
    place: tuple[Lba, SectorCount],
    name: str,
    inside: Mapping[str, bytes],
    boot: bytes | None = None,
) -> None:
    start, length = place
    boot = boot or code("fat32-start")
    for offset, data in fat32_volume(length, start, name, inside, boot, 0x5EA_0000 + start):
        draft.put(start * SECTOR + offset, data)


def _zero(first: int, sectors: int) -> Fault:
    return lambda draft: draft.put((first % DISK_SECTORS) * SECTOR, bytes(sectors * SECTOR))


def _bytes(offset: int, data: bytes) -> Fault:
    return lambda draft: draft.put(offset, data)


def _both(*faults: Fault) -> Fault:
    def apply(draft: ImageDraft) -> None:
        for fault in faults:
            fault(draft)

    return apply


_LOADER_CLUSTER = 6
"""A cluster in the middle of the loader's chain: root, EFI and BOOT take one each before it."""

BIOS_FAULTS: Mapping[str, Fault] = {
    "blank-boot-code": _bytes(0, bytes(mbr.CODE_SIZE)),
    "no-signature": _bytes(510, b"\0\0"),
    "no-table": _bytes(mbr.TABLE_OFFSET, bytes(66)),
    "no-active-entry": _bytes(mbr.TABLE_OFFSET, b"\0"),
    "two-active-entries": _bytes(mbr.TABLE_OFFSET + 16, bytes([mbr.ACTIVE])),
    "odd-flag-elsewhere": _bytes(mbr.TABLE_OFFSET + 16, b"\x01"),
    "blank-boot-sector": _zero(DESK[0], 1),
    "boot-sector-without-signature": _bytes(DESK[0] * SECTOR + 510, b"\0\0"),
    "blank-volume-code": _bytes(DESK[0] * SECTOR + 90, bytes(420)),
    "wrong-hidden-sectors": _bytes(DESK[0] * SECTOR + 28, b"\0\0\0\0"),
    "media-byte": _bytes(DESK[0] * SECTOR + 21, b"\0"),
    "blank-backup-boot-sector": _zero(DESK[0] + 6, 1),
    "blank-first-fat": _zero(DESK[0] + RESERVED, fat_sectors(DESK[1])),
    "blank-second-fat": _zero(DESK[0] + RESERVED + fat_sectors(DESK[1]), fat_sectors(DESK[1])),
}
"""Ways to break `bios_disk`. What each does on real firmware is in `docs/firmware.md`."""

UEFI_FAULTS: Mapping[str, Fault] = {
    "blank-primary-header": _zero(1, 1),
    "primary-header-crc": _bytes(SECTOR + 60, b"\xff"),
    "blank-primary-entries": _zero(2, 32),
    "blank-backup-header": _zero(-1, 1),
    "blank-both-headers": _both(_zero(1, 1), _zero(-1, 1)),
    "no-protective-record": _zero(0, 1),
    "no-protective-entry": _bytes(mbr.TABLE_OFFSET, bytes(16)),
    "protective-entry-active": _bytes(mbr.TABLE_OFFSET, bytes([mbr.ACTIVE])),
    "efi-type-missing": lambda draft: put_guid_table(
        draft, DISK_GUID, [(_DATA_TYPE, *DESK, "EFI"), (_DATA_TYPE, *STORE, "tickets")]
    ),
    "other-entry-outside": lambda draft: put_guid_table(
        draft,
        DISK_GUID,
        [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_DATA_TYPE, STORE[0], DISK_SECTORS, "tickets")],
    ),
    "efi-entry-shared": lambda draft: put_guid_table(
        draft,
        DISK_GUID,
        [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_DATA_TYPE, DESK[0] + 9000, *DESK[1:], "tickets")],
    ),
    "blank-efi-boot-sector": _zero(DESK[0], 1),
    "efi-boot-sector-without-signature": _bytes(DESK[0] * SECTOR + 510, b"\0\0"),
    "efi-media-byte": _bytes(DESK[0] * SECTOR + 21, b"\0"),
    "blank-efi-backup-boot-sector": _zero(DESK[0] + 6, 1),
    "blank-first-fat": _zero(DESK[0] + RESERVED, fat_sectors(DESK[1])),
    "blank-second-fat": _zero(DESK[0] + RESERVED + fat_sectors(DESK[1]), fat_sectors(DESK[1])),
    "first-fat-breaks-loader": _bytes(
        (DESK[0] + RESERVED) * SECTOR + 4 * _LOADER_CLUSTER, bytes(8)
    ),
    "truncated-loader": lambda draft: _replace_loader(draft, truncated_loader()),
    "blank-loader": lambda draft: _replace_loader(draft, bytes(2560)),
    "loader-of-another-machine": lambda draft: _replace_loader(draft, _other_machine()),
}
"""Ways to break `uefi_disk`."""


def _replace_loader(draft: ImageDraft, loader: bytes) -> None:
    _put_volumes(draft, "EFI", {_FALLBACK: loader})


def _other_machine() -> bytes:
    whole = code("desk-loader-efi")
    return whole[:68] + (0xAA64).to_bytes(2, "little") + whole[70:]
