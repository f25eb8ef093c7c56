"""Sound disks of the Skerrivane Ferries, one for each kind of firmware, and the ways in which they
get broken.
"""

import functools
import lzma
import struct
import uuid
from collections.abc import Callable, Mapping, Sequence
from pathlib import Path

from mending.formats import fat, gpt, mbr
from mending.model import Lba, SectorCount

# A disk image as a size and the pieces that are not zero.


SECTOR = 512


class ImageDraft:
    """Pieces of bytes at offsets, written as a sparse file.

    Args:
        size: bytes of the whole disk.
    """

    def __init__(self, size: int) -> None:
        self.size = size
        self._pieces: list[tuple[int, bytes]] = []

    def put(self, offset: int, data: bytes) -> None:
        """Lay `data` at `offset`; later pieces go over earlier ones."""
        if offset < 0 or offset + len(data) > self.size:
            raise ValueError(f"{len(data)} bytes at {offset} leave an image of {self.size}")
        self._pieces.append((offset, data))

    def save(self, path: Path) -> None:
        """Write the image.

        Raises:
            OSError
        """
        with path.open("wb") as file:
            file.truncate(self.size)
            for offset, data in self._pieces:
                file.seek(offset)
                file.write(data)


# Writes a fresh GUID partition table. Source: UEFI Specification 2.10, sections 5.2.3 and 5.3.


Partition = tuple[uuid.UUID, int, int, str]
"""Type, first sector, length in sectors, name."""


def put_guid_table(draft: ImageDraft, disk: uuid.UUID, partitions: Sequence[Partition]) -> None:
    """Lay protective MBR, both headers and both arrays into a draft of 512-byte sectors."""
    sectors = draft.size // SECTOR
    entries = b"".join(
        gpt.encode_entry(kind, uuid.uuid5(disk, name), first, first + length - 1, name)
        for kind, first, length, name in partitions
    )
    record = mbr.encode_entry(
        0, mbr.GPT_PROTECTIVE, Lba(1), SectorCount(min(sectors - 1, 0xFFFFFFFF))
    )
    draft.put(0, mbr.MBR.encode(mbr.MbrFields(b"", 0, 0, record, mbr.SIGNATURE)))
    for _, lba, data in gpt.fresh_copies(disk, entries, sectors, SECTOR):
        draft.put(lba * SECTOR, data)


# Writes a fresh FAT32 volume: short names, folders, every file in one piece.
#
# Sources: the published FAT32 file system specification, version 1.03: "Boot Sector and BPB",
# "FAT32 FSInfo Sector Structure" and "FAT Directory Structure".


RESERVED = 32
_FATS = 2
_ROOT = 2
_END = 0x0FFFFFFF
_FOLDER, _ARCHIVE, _LABEL = 0x10, 0x20, 0x08
_STAMP = struct.pack("<HH", 0, 0x5A21)
"""One fixed time and date for every entry, so that samples are the same bytes on every day."""

Pieces = list[tuple[int, bytes]]


def fat32_volume(
    sectors: int, hidden: int, label: str, files: Mapping[str, bytes], boot: bytes, serial: int
) -> Pieces:
    """The pieces of a volume, with offsets from its start.

    Args:
        sectors: length of the volume; at least 66,600, so that it has the 65,525 clusters that make
            it FAT32.
        hidden: first sector of the volume on its disk.
        files: contents by path, folders by `/` in it, names of at most eight and three capital
            characters.
        boot: 512 bytes whose code and signature are kept and whose parameters are filled in.
        serial: volume identifier.
    """
    per_fat = fat_sectors(sectors)
    root: dict[str, object] = {}
    for path, data in files.items():
        *folders, name = path.strip("/").split("/")
        place = root
        for folder in folders:
            place = place.setdefault(folder, {})  # type: ignore[assignment]
        place[name] = data
    layer = _Layer()
    layer.add_folder(root, 0, label)
    base = (RESERVED + _FATS * per_fat) * SECTOR
    sector = _boot_sector(sectors, hidden, per_fat, label, boot, serial)
    info = _info_sector(
        sectors - RESERVED - _FATS * per_fat - len(layer.chain), len(layer.chain) + 1
    )
    table = struct.pack(f"<{len(layer.chain) + 2}I", 0x0FFFFFF8, _END, *layer.chain)
    copies = [((RESERVED + number * per_fat) * SECTOR, table) for number in range(_FATS)]
    starts = [(0, sector), (SECTOR, info), (6 * SECTOR, sector), (7 * SECTOR, info)]
    return [*starts, *copies, (base, bytes(layer.data))]


def fat_sectors(sectors: int) -> int:
    """Length of one FAT of a volume of this length; the first starts at `RESERVED`."""
    return -(-(sectors - RESERVED) * 4 // (SECTOR + 8)) + 1


class _Layer:
    """Clusters of one sector each, laid down one after the other; `chain` holds the FAT from
    cluster 2 on.
    """

    def __init__(self) -> None:
        self.chain: list[int] = []
        self.data = bytearray()

    def add(self, data: bytes) -> int:
        """Lay down a file; returns its first cluster, 0 for an empty one."""
        count = -(-len(data) // SECTOR)
        first = len(self.chain) + 2
        self.chain += [*range(first + 1, first + count), _END][: max(count, 0)]
        self.data += data.ljust(count * SECTOR, b"\0")
        return first if count else 0

    def add_folder(self, inside: Mapping[str, object], parent: int, label: str = "") -> int:
        """Lay down a folder and all in it; its own clusters come first, as the boot code wants the
        root's.
        """
        extra = 1 if label else 2
        first = self.add(b"\0" * max(32 * (len(inside) + extra), 1))
        rows = [_entry(label.ljust(11), _LABEL, 0, 0)] if label else []
        if not label:
            rows += [
                _entry(".".ljust(11), _FOLDER, first, 0),
                _entry("..".ljust(11), _FOLDER, parent, 0),
            ]
        for name, content in inside.items():
            if isinstance(content, bytes):
                rows.append(_entry(_short(name), _ARCHIVE, self.add(content), len(content)))
            elif isinstance(content, dict):
                below = (
                    0 if first == _ROOT else first
                )  # ".." of a folder in the root names cluster 0
                rows.append(_entry(_short(name), _FOLDER, self.add_folder(content, below), 0))
        at = (first - 2) * SECTOR
        packed = b"".join(rows)
        self.data[at : at + len(packed)] = packed
        return first


def _short(name: str) -> str:
    stem, _, ending = name.partition(".")
    if not (0 < len(stem) <= 8 and len(ending) <= 3 and name == name.upper()):
        raise ValueError(f"{name} is no short name")
    return stem.ljust(8) + ending.ljust(3)


def _entry(name: str, kind: int, cluster: int, size: int) -> bytes:
    head = name.encode("ascii") + bytes((kind, 0, 0)) + _STAMP + _STAMP[2:]
    return (
        head
        + struct.pack("<H", cluster >> 16)
        + _STAMP
        + struct.pack("<HI", cluster & 0xFFFF, size)
    )


def _boot_sector(
    sectors: int, hidden: int, per_fat: int, label: str, boot: bytes, serial: int
) -> bytes:
    common = fat.COMMON.patch(
        boot,
        oem=b"SKERRIES",
        bytes_per_sector=SECTOR,
        sectors_per_cluster=1,
        reserved_sectors=RESERVED,
        fats=_FATS,
        root_entries=0,
        sectors_16=0,
        media=0xF8,
        fat_sectors_16=0,
        sectors_per_track=63,
        heads=255,
        hidden_sectors=hidden,
        sectors_32=sectors,
    )
    with_tail = fat.LONG_TAIL.patch(
        common,
        fat_sectors=per_fat,
        flags=0,
        version=0,
        root_cluster=_ROOT,
        info_sector=1,
        backup_sector=6,
        drive=0x80,
        extended_signature=0x29,
        serial=serial,
        label=label.ljust(11).encode("ascii"),
    )
    return with_tail[:82] + b"FAT32   " + with_tail[90:]


def _info_sector(free: int, last_used: int) -> bytes:
    head = b"RRaA" + bytes(480) + b"rrAa" + struct.pack("<II", free, last_used + 1)
    return head.ljust(508, b"\0") + b"\0\0\x55\xaa"


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


# A sound disk with a Linux system behind a unified kernel, and the ways in which it gets broken.
#
# The root is a template that the real mkfs made (`tests/templates.py`); its kernel and programs are
# heads without bodies, which is all that a trace reads of them. What firmware starts is the sample
# loader with the kernel's parts beside it.


_LINUX_DATA = uuid.UUID("0fc63daf-8483-4772-8e79-3d69d8477de4")
_ROOT_AT = STORE[0] * SECTOR
_BLOCK = 1024


@functools.cache
def _template(name: str) -> bytes:
    return lzma.decompress((Path(__file__).parent / "templates" / f"{name}.xz").read_bytes())


def linux_disk(loader: bytes | None = None) -> ImageDraft:
    """100 MiB: a GPT, an EFI system partition with a unified kernel as its fallback loader, and an
    ext4 root.
    """
    draft = ImageDraft(DISK_SECTORS * SECTOR)
    put_guid_table(
        draft, DISK_GUID, [(gpt.EFI_SYSTEM, *DESK, "EFI"), (_LINUX_DATA, *STORE, "gangway")]
    )
    put_desk(draft, "EFI", {_FALLBACK: _template("desk-linux.efi") if loader is None else loader})
    root = _template("linux-root.ext4")
    for at in range(0, len(root), _BLOCK):
        if any(root[at : at + _BLOCK]):
            draft.put(_ROOT_AT + at, root[at : at + _BLOCK])
    return draft


def _in_loader(found: bytes, instead: bytes) -> Fault:
    """The loader with some bytes changed, as damage on its way to the volume leaves it."""

    def apply(draft: ImageDraft) -> None:
        changed = _template("desk-linux.efi").replace(found, instead)
        put_desk(draft, "EFI", {_FALLBACK: changed})

    return apply


def _in_root(found: bytes, instead: bytes) -> Fault:
    """Other bytes over the place in the root where a file holds these; blocks of files begin at
    multiples of 1 KiB.
    """
    return lambda draft: draft.put(_ROOT_AT + _template("linux-root.ext4").index(found), instead)


def _blank_init(draft: ImageDraft) -> None:
    at = _template("linux-root.ext4").index(b"init of the ticket desk") // _BLOCK * _BLOCK
    draft.put(_ROOT_AT + at, bytes(64))


def _superblock(draft: ImageDraft) -> None:
    draft.put(_ROOT_AT + 1024, bytes(1024))


LINUX_FAULTS: Mapping[str, Fault] = {
    "root-of-another-name": _in_loader(b"-00000000de5c", b"-0000000005ea"),
    "blank-initial-files": _in_loader(b"\x1f\x8b\x08", b"\0\0\0"),
    "blank-kernel-head": _in_loader(b"HdrS", bytes(4)),
    "blank-root-superblock": _superblock,
    "blank-init": _blank_init,
    "blank-accounts": _in_root(b"root:x:0:0", bytes(80)),
    "mount-of-another-name": _in_root(b"de5c / ext4 defaults 0 1\n", b"05ea /t ext4 defaults 0 2"),
}
"""Ways to break `linux_disk`."""
