"""File systems and containers that Mending knows by their mark: what it is, how long, and what it
says of itself.

Sources, a row each: XFS "XFS Algorithms & Data Structures", section 13.1; Btrfs "On-disk Format",
superblock; Linux `include/linux/swap.h` (`union swap_header`) and `kernel/power/swap.c` (its
signature); LUKS "On-Disk Format Specification" 1.2.3, section 2.1, and 2.1.0, section 2.1; LVM2
`lib/format_text/layout.h` and `lib/misc/crc.c`; the published APFS reference, `nx_superblock_t`;
the published HFS+ volume format, "Volume Header"; ECMA-119, section 8.4.
"""

import hashlib
import struct
import uuid
import zlib
from collections.abc import Callable

import msgspec

from mending.model import (
    FilesystemKind,
    Problem,
    VolumeInfo,
    VolumeState,
    Window,
    crc32c,
    fletcher64,
    plain_bytes,
)

READ_BYTES = 69_632
"""How much of a volume has to be seen: the superblock of Btrfs is the farthest, at 64 KiB."""
BTRFS_OFFSET, BTRFS_PLACE = 65_536, 48
"""Where its first superblock is, and where in every copy of it its own place is written."""
_BTRFS_BYTES = 4096
_PAGE = 4096
_LVM_START = 0xF597A6CF
_HFS_UNMOUNTED, _HFS_INCONSISTENT = 1 << 8, 1 << 11
_LUKS_SIZE, _LUKS_SUM = 4096, 448
_XFS_SUM, _XFS_CHECKED = 224, 5


class SignatureMatch(msgspec.Struct, frozen=True):
    """A recognised volume and its own account of itself."""

    filesystem: FilesystemKind
    info: VolumeInfo = VolumeInfo()


class Signature(msgspec.Struct, frozen=True):
    """Where a mark stands, counted from the start of the volume, and what it is a mark of."""

    filesystem: FilesystemKind
    offset: int
    magic: bytes


SIGNATURES = (
    Signature(FilesystemKind.XFS, 0, b"XFSB"),
    Signature(FilesystemKind.LUKS, 0, b"LUKS\xba\xbe"),
    Signature(FilesystemKind.APFS, 32, b"NXSB"),
    Signature(FilesystemKind.LVM, 512, b"LABELONE"),
    Signature(FilesystemKind.HFS_PLUS, 1024, b"H+\0\x04"),
    Signature(FilesystemKind.HFS_PLUS, 1024, b"HX\0\x05"),
    Signature(FilesystemKind.SWAP, 4086, b"SWAPSPACE2"),
    Signature(FilesystemKind.SWAP, 4086, b"S1SUSPEND\0"),
    Signature(FilesystemKind.ISO9660, 32_769, b"CD001"),
    Signature(FilesystemKind.BTRFS, 65_600, b"_BHRfS_M"),
)


def recognise(window: Window) -> SignatureMatch | None:
    """What the volume that starts with the window is; None where no mark stands in its place."""
    for row in SIGNATURES:
        end = row.offset + len(row.magic)
        if len(window) >= end and window.data[row.offset : end] == row.magic:
            return SignatureMatch(row.filesystem, _READERS[row.filesystem](window))
    return None


def _number(data: bytes, offset: int, code: str) -> int:
    """A number of a structure, 0 where the data is too short."""
    size = struct.calcsize(code)
    value: int = (
        struct.unpack(code, data[offset : offset + size])[0] if len(data) >= offset + size else 0
    )
    return value


def _uuid(data: bytes, offset: int) -> str:
    raw = data[offset : offset + 16]
    return str(uuid.UUID(bytes=raw)) if len(raw) == 16 and any(raw) else ""


def _checked(
    window: Window, offset: int, width: int, found: int | None, wanted: int
) -> tuple[Problem, ...]:
    """A problem where the checksum that is kept is not the one that the bytes give; None: there is
    none to compare.
    """
    if found is None or found == wanted:
        return ()
    kept, right = f"{found:0{2 * width}x}", f"{wanted:0{2 * width}x}"
    return (Problem("checksum", window.offset + offset, width, kept, right),)


def _xfs(window: Window) -> VolumeInfo:
    data = window.data
    block, blocks, free = _number(data, 4, ">I"), _number(data, 8, ">Q"), _number(data, 144, ">Q")
    sector, summed = _number(data, 102, ">H"), _number(data, 100, ">H") & 15 == _XFS_CHECKED
    wanted = crc32c(data[:_XFS_SUM] + bytes(4) + data[_XFS_SUM + 4 : sector]) ^ 0xFFFFFFFF
    kept = _number(data, _XFS_SUM, "<I") if summed and 512 <= sector <= len(data) else None
    return VolumeInfo(
        bytes=block * blocks,
        label=plain_bytes(data[108:120]),
        identifier=_uuid(data, 32),
        used=max(blocks - free, 0) * block,
        problems=_checked(window, _XFS_SUM, 4, kept, wanted),
    )


def _btrfs(window: Window) -> VolumeInfo:
    block = window.data[BTRFS_OFFSET : BTRFS_OFFSET + _BTRFS_BYTES]
    whole = (
        len(block) == _BTRFS_BYTES and _number(block, 196, "<H") == 0
    )  # 0: its checksums are CRC-32C
    kept = _number(block, 0, "<I") if whole else None
    several = _number(block, 136, "<Q") > 1
    return VolumeInfo(
        bytes=_number(block, 209, "<Q") if several else _number(block, 112, "<Q"),
        label=plain_bytes(block[299:555]),
        identifier=_uuid(block, 32),
        used=None if several else _number(block, 120, "<Q"),
        state=VolumeState.DIRTY if _number(block, 96, "<Q") else VolumeState.CLEAN,
        problems=_checked(window, BTRFS_OFFSET, 4, kept, crc32c(block[32:]) ^ 0xFFFFFFFF),
    )


def _swap(window: Window) -> VolumeInfo:
    data = window.data
    asleep = data[_PAGE - 10 : _PAGE - 1] == b"S1SUSPEND"
    return VolumeInfo(
        bytes=(_number(data, 1028, "<I") + 1) * _PAGE,
        label=plain_bytes(data[1052:1068]),
        identifier=_uuid(data, 1036),
        state=VolumeState.HIBERNATED if asleep else VolumeState.CLEAN,
    )


def _luks(window: Window) -> VolumeInfo:
    data, version = window.data, _number(window.data, 6, ">H")
    identifier = plain_bytes(data[168:208])
    if version != 2:
        return VolumeInfo(identifier=identifier)
    length, named = _number(data, 8, ">Q"), plain_bytes(data[72:104])
    problems: tuple[Problem, ...] = ()
    if (
        _LUKS_SIZE <= length <= len(data)
        and named in hashlib.algorithms_guaranteed
        and "shake" not in named
    ):
        blank = data[:_LUKS_SUM] + bytes(64) + data[_LUKS_SUM + 64 : length]
        wanted = hashlib.new(named, blank).digest()
        kept = data[_LUKS_SUM : _LUKS_SUM + len(wanted)]
        problems = _checked(
            window,
            _LUKS_SUM,
            len(wanted),
            int.from_bytes(kept, "big"),
            int.from_bytes(wanted, "big"),
        )
    return VolumeInfo(label=plain_bytes(data[24:72]), identifier=identifier, problems=problems)


def _lvm(window: Window) -> VolumeInfo:
    """The label sector; its checksum is the usual CRC-32 from another start, without the
    complements.
    """
    sector = window.data[512:1024]
    wanted = zlib.crc32(sector[20:], _LVM_START ^ 0xFFFFFFFF) ^ 0xFFFFFFFF
    at = _number(sector, 20, "<I")
    raw = plain_bytes(sector[at : at + 32])
    marks = [
        raw[start:end]
        for start, end in ((0, 6), (6, 10), (10, 14), (14, 18), (18, 22), (22, 26), (26, 32))
    ]
    kept = _number(sector, 16, "<I") if len(sector) == 512 else None
    return VolumeInfo(
        bytes=_number(sector, at + 32, "<Q"),
        identifier="-".join(marks) if len(raw) == 32 else "",
        problems=_checked(window, 512 + 16, 4, kept, wanted),
    )


def _apfs(window: Window) -> VolumeInfo:
    data, size = window.data, _number(window.data, 36, "<I")
    whole = _PAGE <= size <= len(data)
    kept = _number(data, 0, "<Q") if whole else None
    return VolumeInfo(
        bytes=_number(data, 40, "<Q") * size,
        identifier=_uuid(data, 72),
        problems=_checked(window, 0, 8, kept, fletcher64(data[8:size]) if whole else 0),
    )


def _hfs(window: Window) -> VolumeInfo:
    data = window.data[1024:]
    blocks, free, size = _number(data, 44, ">I"), _number(data, 48, ">I"), _number(data, 40, ">I")
    attributes = _number(data, 4, ">I")
    closed = attributes & _HFS_UNMOUNTED and not attributes & _HFS_INCONSISTENT
    return VolumeInfo(
        bytes=size * blocks,
        used=max(blocks - free, 0) * size,
        identifier=data[104:112].hex(),
        state=VolumeState.CLEAN if closed else VolumeState.DIRTY,
    )


def _iso(window: Window) -> VolumeInfo:
    block = window.data[32_768:]
    length = _number(block, 80, "<I") * _number(block, 128, "<H")
    return VolumeInfo(
        bytes=length, used=length, label=plain_bytes(block[40:72]), state=VolumeState.CLEAN
    )


_READERS: dict[FilesystemKind, Callable[[Window], VolumeInfo]] = {
    FilesystemKind.XFS: _xfs,
    FilesystemKind.BTRFS: _btrfs,
    FilesystemKind.SWAP: _swap,
    FilesystemKind.LUKS: _luks,
    FilesystemKind.LVM: _lvm,
    FilesystemKind.APFS: _apfs,
    FilesystemKind.HFS_PLUS: _hfs,
    FilesystemKind.ISO9660: _iso,
}
