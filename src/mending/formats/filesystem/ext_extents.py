"""Nodes of the trees of extents that say where the blocks of a file on an ext4 volume lie.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", section "Extent Tree".
"""

import struct

import msgspec

from mending.model import InputError, Problem, Reading, Window, crc32c, hex_preview

MAGIC = 0xF30A
_ROW = 12
_MOST_DEPTH = 5
_MOST_WRITTEN = 32_768
"""A greater length stands for blocks that were given to the file and never written."""


class Extent(msgspec.Struct, frozen=True):
    """Blocks of a file that lie together.

    Attributes:
        first: number of the first one within the file.
        start: its number on the volume; None where the blocks read as zeros.
    """

    first: int
    count: int
    start: int | None


class ExtentNode(msgspec.Struct, frozen=True):
    """A node.

    Attributes:
        depth: levels below it; 0 for one that holds extents.
        children: pairs of the first block within the file and the block of the node below.
    """

    depth: int
    extents: tuple[Extent, ...]
    children: tuple[tuple[int, int], ...]


def read(window: Window, seed: int | None = None) -> Reading[ExtentNode]:
    """Read a node.

    Args:
        window: exactly the node: 60 bytes of an inode, or a block.
        seed: where the checksum behind a block's rows begins; None where there is none.

    Raises:
        InputError: fewer than 12 bytes.
    """
    if len(window) < _ROW:
        raise InputError("A node of extents is cut off.")
    magic, count, most, depth = struct.unpack_from("<HHHH", window.data)
    room = len(window) // _ROW - 1
    nothing = ExtentNode(depth, (), ())
    if magic != MAGIC:
        found = hex_preview(window.take(0, 2))
        return Reading(nothing, (Problem("extents-magic", window.offset, 2, found, "0a f3"),))
    if count > most or most > room or depth > _MOST_DEPTH:
        found = f"{count} of {most} rows, {depth} levels"
        wanted = f"at most {room} rows, {_MOST_DEPTH} levels"
        return Reading(nothing, (Problem("extents-rows", window.offset, 8, found, wanted),))
    problems = []
    end = _ROW * (most + 1)
    if seed is not None and end + 4 <= len(window):
        kept, made = struct.unpack_from("<I", window.data, end)[0], crc32c(window.data[:end], seed)
        if kept != made:
            at = window.offset + end
            problems.append(Problem("extents-checksum", at, 4, f"{kept:08x}", f"{made:08x}"))
    rows = [window.data[_ROW * number : _ROW * (number + 1)] for number in range(1, count + 1)]
    if depth:
        node = ExtentNode(depth, (), tuple(map(_child, rows)))
    else:
        node = ExtentNode(depth, tuple(map(_extent, rows)), ())
    return Reading(node, tuple(problems))


def _child(row: bytes) -> tuple[int, int]:
    first, low, high = struct.unpack_from("<IIH", row)
    return first, high << 32 | low


def _extent(row: bytes) -> Extent:
    first, count, high, low = struct.unpack("<IHHI", row)
    if count > _MOST_WRITTEN:
        return Extent(first, count - _MOST_WRITTEN, None)
    return Extent(first, count, high << 32 | low)
