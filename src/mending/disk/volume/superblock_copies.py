"""Copies of superblocks of XFS and Btrfs, for volumes whose first one is lost.

XFS keeps one at the start of each of its groups. How long a group is, only a superblock tells, so
the places are tried that the usual programs choose: a volume cut in four, or in few other numbers
of groups. Btrfs keeps copies at 64 MiB and 256 GiB.

Sources: "XFS Algorithms & Data Structures", third edition, chapters "Allocation Groups" and
"Superblocks"; the Btrfs on-disk format, "Superblock".
"""

from collections.abc import Iterator

import msgspec

from mending.formats.filesystem import signatures
from mending.model import FilesystemKind, InputError, Window, crc32c
from mending.source import Source

_BLOCK = 4096
_GROUPS = (4, 8, 16, 32, 2, 3)
_AROUND = 16
"""Blocks on either side of a place that are looked at: lengths are rounded."""
_SECTOR = 512
_ONES = 0xFFFF_FFFF
_BTRFS_COPIES = (64 << 20, 256 << 30)
_BTRFS_BYTES, _BTRFS_MAGIC_AT = 4096, 64


class SuperblockCopy(msgspec.Struct, frozen=True):
    """A sound copy.

    Attributes:
        place: bytes from the start of the volume to it. first: to where the lost one stands.
        data: all of it.
    """

    filesystem: FilesystemKind
    place: int
    first: int
    data: bytes

    @property
    def info(self) -> tuple[str, str]:
        """Identifier and label of the volume."""
        return names_in(self.filesystem, self.data)


def names_in(filesystem: FilesystemKind, data: bytes) -> tuple[str, str]:
    """Identifier and label that a superblock has."""
    start = signatures.BTRFS_OFFSET if filesystem is FilesystemKind.BTRFS else 0
    mark = signatures.recognise(Window(bytes(start) + data))
    return (mark.info.identifier, mark.info.label) if mark is not None else ("", "")


def superblock_copy(source: Source, offset: int, length: int) -> SuperblockCopy | None:
    """The first sound copy in a volume of so many bytes whose own superblock is lost; None where
    there is none.
    """
    return _xfs(source, offset, length) or _btrfs(source, offset, length)


def _xfs(source: Source, offset: int, length: int) -> SuperblockCopy | None:
    for place in _xfs_places(length):
        first = max(place - _AROUND * _BLOCK, _BLOCK)
        data = _read(source, offset + first, (2 * _AROUND + 1) * _BLOCK)
        for at in range(0, len(data) - _SECTOR + 1, _BLOCK):
            if data[at : at + 4] == b"XFSB" and _fits(data[at:], first + at, length):
                size = int.from_bytes(data[at + 102 : at + 104], "big")
                return SuperblockCopy(
                    FilesystemKind.XFS, first + at, 0, data[at : at + max(size, _SECTOR)]
                )
    return None


def _xfs_places(length: int) -> Iterator[int]:
    blocks = length // _BLOCK
    seen: set[int] = set()
    for groups in _GROUPS:
        place = -(-blocks // groups) * _BLOCK
        if place not in seen and _BLOCK < place < length:
            seen.add(place)
            yield place


def _fits(data: bytes, place: int, length: int) -> bool:
    """Whether a superblock is that of a volume of this length in which a group begins there."""
    size = int.from_bytes(data[4:8], "big")
    blocks, group = int.from_bytes(data[8:16], "big"), int.from_bytes(data[84:88], "big")
    sector = int.from_bytes(data[102:104], "big")
    if not size or not group or place % (group * size) or blocks * size > length:
        return False
    if int.from_bytes(data[100:102], "big") & 15 != 5 or not _SECTOR <= sector <= len(data):
        return False
    made = crc32c(data[:224] + bytes(4) + data[228:sector]) ^ _ONES
    return made == int.from_bytes(data[224:228], "little")


def _btrfs(source: Source, offset: int, length: int) -> SuperblockCopy | None:
    for place in _BTRFS_COPIES:
        if place + _BTRFS_BYTES > length:
            return None
        data = _read(source, offset + place, _BTRFS_BYTES)
        marked = data[_BTRFS_MAGIC_AT : _BTRFS_MAGIC_AT + 8] == b"_BHRfS_M"
        if not marked or int.from_bytes(data[48:56], "little") != place or any(data[196:198]):
            continue
        if crc32c(data[32:]) ^ _ONES == int.from_bytes(data[:4], "little"):
            first = signatures.BTRFS_OFFSET
            return SuperblockCopy(FilesystemKind.BTRFS, place, first, data)
    return None


def _read(source: Source, offset: int, length: int) -> bytes:
    try:
        return source.read(offset, length).data
    except InputError:
        return b""
