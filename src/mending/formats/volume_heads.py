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
from collections.abc import Callable, Iterator

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
_SUPPLEMENTARY, _LAST_DESCRIPTOR = 2, 255
_JOLIET = {b"%/@", b"%/C", b"%/E"}
_LVM_START = 0xF597A6CF
_HFS_UNMOUNTED, _HFS_INCONSISTENT = 1 << 8, 1 << 11
_HFS_SPACE = bytes.fromhex("b3e20f39f29211d697a400306543ecac")
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


class Named(msgspec.Struct, frozen=True):
    """A kind of which only the names are read.

    Attributes:
        identifier: bytes from the mark's structure, `start`, to its UUID; None where it has none.
        label: bytes from there to its label. label_bytes: how many; 0 where it has none.
        wide: whether the label is UTF-16.
    """

    filesystem: FilesystemKind
    offset: int
    magic: bytes
    start: int = 0
    identifier: int | None = None
    label: int = 0
    label_bytes: int = 0
    wide: bool = False


_BCACHE, _BCACHEFS = "c68573f64e1a45ca8265f57f48ba6d81", "c68573f666ce90a9d96a60cf803df7ef"
_KIND = FilesystemKind
NAMED = (
    Named(_KIND.BCACHE, 4120, bytes.fromhex(_BCACHE), 4096, 40, 72, 32),
    Named(_KIND.BCACHEFS, 4120, bytes.fromhex(_BCACHEFS), 4096, 56, 72, 32),
    Named(_KIND.CRAMFS, 0, b"\x45\x3d\xcd\x28", 0, None, 48, 16),
    Named(_KIND.EROFS, 1024, b"\xe2\xe1\xf5\xe0", 1024, 48, 64, 16),
    Named(_KIND.F2FS, 1024, b"\x10\x20\xf5\xf2", 1024, 108, 124, 512, wide=True),
    Named(_KIND.GFS2, 65_536, b"\x01\x16\x19\x70\0\0\0\x01", 65_536, 256, 160, 64),
    Named(_KIND.JFS, 32_768, b"JFS1", 32_768, 136, 152, 16),
    Named(_KIND.NILFS2, 1024, b"\x02\0\0\0\0\0\x34\x34", 1024, 152, 168, 80),
    *(Named(_KIND.OCFS2, at, b"OCFSV2", at, 336, 272, 64) for at in (1024, 2048, 4096, 8192)),
    Named(_KIND.REISERFS, 65_588, b"ReIsErFs", 65_536, 84, 100, 16),
    Named(_KIND.REISERFS, 65_588, b"ReIsEr2Fs", 65_536, 84, 100, 16),
    Named(_KIND.REISERFS, 65_588, b"ReIsEr3Fs", 65_536, 84, 100, 16),
    Named(_KIND.REISER4, 65_536, b"ReIsEr4", 65_536, 20, 36, 16),
    Named(_KIND.ROMFS, 0, b"-rom1fs-", 0, None, 16, 16),
    Named(_KIND.SQUASHFS, 0, b"hsqs"),
    Named(_KIND.UBIFS, 0, b"\x31\x18\x10\x06", 0, 108),
    Named(_KIND.UFS, 9564, b"\x54\x19\x01\0"),
    Named(_KIND.UFS, 66_908, b"\x19\x01\x54\x19"),
    Named(_KIND.ZFS, 16_384, b"\x01\x01\0\0\0\0\0\0\0\0\0\x01"),
    Named(_KIND.HFS, 1024, b"BD", 1024, None, 37, 27),
    *(Named(_KIND.UDF, 32_769 + at * 2048, b"NSR0") for at in range(1, 16)),
)
"""Marks, from the published headers of each; those with a long mark come first."""
SIGNATURES = (
    Signature(FilesystemKind.XFS, 0, b"XFSB"),
    Signature(FilesystemKind.LUKS, 0, b"LUKS\xba\xbe"),
    Signature(FilesystemKind.APFS, 32, b"NXSB"),
    Signature(FilesystemKind.LVM, 512, b"LABELONE"),
    Signature(FilesystemKind.HFS_PLUS, 1024, b"H+\0\x04"),
    Signature(FilesystemKind.HFS_PLUS, 1024, b"HX\0\x05"),
    Signature(FilesystemKind.SWAP, 4086, b"SWAPSPACE2"),
    Signature(FilesystemKind.SWAP, 4086, b"S1SUSPEND\0"),
    Signature(FilesystemKind.SWAP, 4086, b"SWAP-SPACE"),
    Signature(FilesystemKind.SWAP, 4086, b"S2SUSPEND\0"),
    Signature(FilesystemKind.SWAP, 4086, b"ULSUSPEND\0"),
    *(Signature(row.filesystem, row.offset, row.magic) for row in NAMED),
    Signature(FilesystemKind.ISO9660, 32_769, b"CD001"),
    Signature(FilesystemKind.BTRFS, 65_600, b"_BHRfS_M"),
)


def recognise(window: Window) -> SignatureMatch | None:
    """What the volume that starts with the window is; None where no mark stands in its place."""
    for row in SIGNATURES:
        end = row.offset + len(row.magic)
        if len(window) >= end and window.data[row.offset : end] == row.magic:
            read = _READERS.get(row.filesystem)
            info = read(window) if read is not None else _names(window, row)
            return SignatureMatch(row.filesystem, info)
    return None


def _names(window: Window, mark: Signature) -> VolumeInfo:
    """What a kind of which no more is read calls itself."""
    row = next(row for row in NAMED if (row.offset, row.magic) == (mark.offset, mark.magic))
    at = row.start + (row.identifier or 0)
    raw = window.data[row.start + row.label : row.start + row.label + row.label_bytes]
    label = raw.decode("utf-16-le", "replace").split("\0")[0] if row.wide else plain_bytes(raw)
    known = row.identifier is not None
    return VolumeInfo(label=label, identifier=_uuid(window.data, at) if known else "")


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
        identifier=_hfs_uuid(data[104:112]),
        state=VolumeState.CLEAN if closed else VolumeState.DIRTY,
    )


def _hfs_uuid(finder: bytes) -> str:
    """The UUID that is made of the number in a volume's header (RFC 4122, version 3)."""
    if len(finder) < 8 or not any(finder):
        return ""
    raw = bytearray(hashlib.md5(_HFS_SPACE + finder, usedforsecurity=False).digest())
    raw[6], raw[8] = raw[6] & 0x0F | 0x30, raw[8] & 0x3F | 0x80
    return str(uuid.UUID(bytes=bytes(raw)))


def _iso(window: Window) -> VolumeInfo:
    block = window.data[32_768:]
    length = _number(block, 80, "<I") * _number(block, 128, "<H")
    plain = plain_bytes(block[40:72])
    wide = next((each for each in _joliet(block) if each), "")
    wide = "" if plain.lower().startswith(wide.lower()) else wide  # it has room for half as many
    return VolumeInfo(
        bytes=length,
        used=length,
        label=wide or plain,
        identifier=_iso_time(block[830:847]) or _iso_time(block[813:830]),
        state=VolumeState.CLEAN,
    )


def _joliet(block: bytes) -> Iterator[str]:
    """Labels in supplementary descriptors, which have letters of all kinds."""
    for at in range(2048, len(block) - 2047, 2048):
        if block[at + 1 : at + 6] != b"CD001" or block[at] == _LAST_DESCRIPTOR:
            return
        if block[at] == _SUPPLEMENTARY and block[at + 88 : at + 91] in _JOLIET:
            yield block[at + 40 : at + 72].decode("utf-16-be", "replace").strip(" \0")


def _iso_time(raw: bytes) -> str:
    """When it was changed or made, which is what such a volume is told from others by."""
    digits = raw[:16].decode("ascii", "replace")
    if len(digits) < 16 or not digits.isdecimal() or not digits.strip("0"):
        return ""
    return "-".join([digits[:4], *(digits[at : at + 2] for at in range(4, 16, 2))])


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
