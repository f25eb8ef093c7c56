"""File systems and containers that Mending knows by their mark alone: what it is, how long, which label.

Sources, a row each: XFS "XFS Algorithms & Data Structures", section 13.1; Btrfs "On-disk Format", superblock; Linux
`include/linux/swap.h` (`union swap_header`); LUKS "On-Disk Format Specification" 1.2.3 and 2.1.0; LVM2
`lib/format_text/layout.h`; the published APFS reference, `nx_superblock_t`; the published HFS+ volume format, volume
header; ECMA-119, section 8.4.
"""

import struct
from collections.abc import Callable

import msgspec

from mending.model import Window, plain_bytes

READ_BYTES = 69_632
"""How much of a volume has to be seen: the superblock of Btrfs is the farthest, at 64 KiB."""


class Mark(msgspec.Struct, frozen=True):
    """A recognised volume. `bytes` is 0 where the mark does not tell the length."""

    filesystem: str
    bytes: int = 0
    label: str = ""


class Row(msgspec.Struct, frozen=True):
    """Where a mark stands, counted from the start of the volume, and what it is a mark of."""

    filesystem: str
    offset: int
    magic: bytes


ROWS = (
    Row("xfs", 0, b"XFSB"),
    Row("luks", 0, b"LUKS\xba\xbe"),
    Row("apfs", 32, b"NXSB"),
    Row("lvm", 512, b"LABELONE"),
    Row("hfs+", 1024, b"H+\0\x04"),
    Row("hfs+", 1024, b"HX\0\x05"),
    Row("swap", 4086, b"SWAPSPACE2"),
    Row("iso9660", 32_769, b"CD001"),
    Row("btrfs", 65_600, b"_BHRfS_M"),
)


def recognise(window: Window) -> Mark | None:
    """What the volume that starts with the window is; None where no mark stands in its place."""
    for row in ROWS:
        end = row.offset + len(row.magic)
        if len(window) >= end and window.data[row.offset : end] == row.magic:
            describe = _DETAILS.get(row.filesystem)
            return describe(window.data) if describe else Mark(row.filesystem)
    return None


def _number(data: bytes, offset: int, code: str) -> int:
    """A number of a structure, 0 where the data is too short."""
    size = struct.calcsize(code)
    value: int = struct.unpack(code, data[offset : offset + size])[0] if len(data) >= offset + size else 0
    return value


def _xfs(data: bytes) -> Mark:
    return Mark("xfs", _number(data, 8, ">Q") * _number(data, 4, ">I"), plain_bytes(data[108:120]))


def _btrfs(data: bytes) -> Mark:
    return Mark("btrfs", _number(data, 0x10070, "<Q"), plain_bytes(data[0x1012B:0x1022B]))


def _swap(data: bytes) -> Mark:
    return Mark("swap", (_number(data, 1028, "<I") + 1) * 4096, plain_bytes(data[1052:1068]))


def _luks(data: bytes) -> Mark:
    return Mark("luks", 0, plain_bytes(data[24:72]) if _number(data, 6, ">H") == 2 else "")


def _apfs(data: bytes) -> Mark:
    return Mark("apfs", _number(data, 40, "<Q") * _number(data, 36, "<I"))


def _hfs(data: bytes) -> Mark:
    return Mark("hfs+", _number(data, 1024 + 40, ">I") * _number(data, 1024 + 44, ">I"))


def _iso(data: bytes) -> Mark:
    blocks, size = _number(data, 32_768 + 80, "<I"), _number(data, 32_768 + 128, "<H")
    return Mark("iso9660", blocks * size, plain_bytes(data[32_808:32_840]))


_DETAILS: dict[str, Callable[[bytes], Mark]] = {
    "xfs": _xfs,
    "btrfs": _btrfs,
    "swap": _swap,
    "luks": _luks,
    "apfs": _apfs,
    "hfs+": _hfs,
    "iso9660": _iso,
}
