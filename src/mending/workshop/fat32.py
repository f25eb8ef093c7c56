"""Writes a fresh FAT32 volume: short names, folders, every file in one piece.

Sources: the published FAT32 file system specification, version 1.03: "Boot Sector and BPB", "FAT32
FSInfo Sector Structure" and "FAT Directory Structure".
"""

import struct
from collections.abc import Mapping

from mending.formats.filesystem import fat
from mending.workshop.image import SECTOR

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
