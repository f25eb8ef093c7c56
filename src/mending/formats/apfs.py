"""Containers of the darwin family: where the names of the volumes inside are kept.

A container's superblock lists its volumes by numbers; a map, which is a tree, says in which block
the superblock of each is now.

Source: the published APFS reference, "Container" (`nx_superblock_t`), "Object Maps"
(`omap_phys_t`, `omap_key_t`, `omap_val_t`), "B-Trees" (`btree_node_phys_t`) and "Volumes"
(`apfs_superblock_t`).
"""

import struct
import uuid

import msgspec

from mending.model import Window, fletcher64, plain_bytes

LEAST_BLOCK, MOST_BLOCK = 4096, 65_536
_CONTAINER, _VOLUME = b"NXSB", b"APSB"
_MOST_VOLUMES = 100
_HEAD, _INFO = 56, 40
"""Bytes in front of the table of a node, and behind the values of a root."""
_ROOT, _LEAF, _FIXED = 1, 2, 4
_MOST_ROWS = 4096
_PLAIN = 0x1
_ROLES = {
    0x01: "system",
    0x02: "user",
    0x04: "recovery",
    0x08: "memory",
    0x10: "preboot",
    0x20: "set-up",
    0x40: "data",
    0x80: "base system",
    0xC0: "update",
}


class Container(msgspec.Struct, frozen=True):
    """A container's superblock.

    Attributes:
        moment: number of the transaction that wrote it; the highest one counts.
        first_of_copies, copies: block and number of blocks in which later ones are.
        map: block of the map.
        volumes: numbers of the superblocks of its volumes.
    """

    block_bytes: int
    blocks: int
    moment: int
    first_of_copies: int
    copies: int
    map: int
    volumes: tuple[int, ...]


class ContainedVolume(msgspec.Struct, frozen=True):
    """A volume in a container. `role` is empty where it has none, as older ones have."""

    name: str
    identifier: str
    role: str
    is_encrypted: bool


class MapNode(msgspec.Struct, frozen=True):
    """A node of a map: rows of number, moment, and block below or of the object itself."""

    is_leaf: bool
    rows: tuple[tuple[int, int, int], ...]


def read_container(window: Window) -> Container | None:
    """A container's superblock; None where there is none, or its checksum does not fit."""
    data = window.data
    if len(data) < LEAST_BLOCK or data[32:36] != _CONTAINER:
        return None
    size, blocks = struct.unpack_from("<IQ", data, 36)
    if not LEAST_BLOCK <= size <= min(MOST_BLOCK, len(data)) or not _fits(data[:size]):
        return None
    (moment,) = struct.unpack_from("<Q", data, 16)
    (copies,) = struct.unpack_from("<I", data, 104)
    first, where = struct.unpack_from("<Q40xQ", data, 112)
    count = min(struct.unpack_from("<I", data, 180)[0], _MOST_VOLUMES)
    listed = struct.unpack_from(f"<{count}Q", data, 184)
    in_tree = bool(copies >> 31)  # then the copies do not lie together
    return Container(
        size,
        blocks,
        moment,
        first,
        0 if in_tree else copies,
        where,
        tuple(number for number in listed if number),
    )


def map_root(window: Window) -> int:
    """The block of the root of a map; 0 where there is none."""
    data = window.data
    return struct.unpack_from("<Q", data, 48)[0] if len(data) >= 56 and _fits(data) else 0


def map_node(window: Window) -> MapNode | None:
    """A node of a map; None where it is damaged or of another tree."""
    data = window.data
    if len(data) < LEAST_BLOCK or not _fits(data):
        return None
    flags, _, count, offset, length = struct.unpack_from("<HHIHH", data, 32)
    if not flags & _FIXED or count > _MOST_ROWS:
        return None
    keys = _HEAD + offset + length
    end = len(data) - (_INFO if flags & _ROOT else 0)
    is_leaf, rows = bool(flags & _LEAF), []
    for row in range(count):
        at = _HEAD + offset + 4 * row
        if at + 4 > len(data):
            return None
        key, value = struct.unpack_from("<HH", data, at)
        place = end - value + (8 if is_leaf else 0)
        if keys + key + 16 > len(data) or not 0 <= place <= len(data) - 8:
            return None
        number, moment = struct.unpack_from("<QQ", data, keys + key)
        rows.append((number, moment, struct.unpack_from("<Q", data, place)[0]))
    return MapNode(is_leaf, tuple(rows))


def read_volume(window: Window) -> ContainedVolume | None:
    """The superblock of a volume; None where it is none."""
    data = window.data
    if len(data) < LEAST_BLOCK or data[32:36] != _VOLUME or not _fits(data):
        return None
    flags, role = struct.unpack_from("<Q", data, 264)[0], struct.unpack_from("<H", data, 964)[0]
    return ContainedVolume(
        name=plain_bytes(data[704:960]),
        identifier=str(uuid.UUID(bytes=data[240:256])),
        role=_ROLES.get(role, ""),
        is_encrypted=not flags & _PLAIN,
    )


def _fits(block: bytes) -> bool:
    return fletcher64(block[8:]) == int.from_bytes(block[:8], "little")
