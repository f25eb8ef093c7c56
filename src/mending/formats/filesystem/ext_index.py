"""Roots and nodes of the hash tree by which a large folder on an ext volume is searched.

The leaves are usual blocks of rows. The root is the first block of the folder: behind the rows `.`
and `..` it says how many levels of nodes there are, then come pairs of a hash and the number of a
block within the folder. A node has the same pairs behind one row without a name. Which block is
what, only the tree itself tells: where a root or node was a leaf before, its last bytes may still
look like the end of one.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "Hash Tree
Directories" and "Checksums".
"""

import struct

import msgspec

from mending.model import Problem, Reading, Window, crc32c

_ROOT_PAIRS, _NODE_PAIRS = 32, 8
"""Where the pairs begin; in place of the first hash stand the room for pairs and their count."""
_PAIR, _TAIL = 8, 8
_INFO_LENGTH, _MOST_LEVELS = 8, 3
_BLOCK_MASK = 0x0FFF_FFFF


class IndexNode(msgspec.Struct, frozen=True):
    """The root of a hash tree, or a node.

    Attributes:
        levels: how many levels of nodes lie below a root; 0 for a node.
        blocks: numbers within the folder of the blocks that it leads to.
    """

    levels: int
    blocks: tuple[int, ...]


def read_root(window: Window, seed: int | None) -> Reading[IndexNode]:
    """Read the root: the first block of a folder that has a hash tree.

    Args:
        window: exactly the block.
        seed: the register with which its checksum begins; None where there is none.
    """
    nothing = IndexNode(0, ())
    if len(window) < _ROOT_PAIRS + _PAIR:
        return Reading(nothing, (_problem(window, 0, f"{len(window)} bytes", "a block"),))
    reserved, _kind, length, levels, _flags = struct.unpack_from("<IBBBB", window.data, 24)
    if reserved or length != _INFO_LENGTH or levels >= _MOST_LEVELS:
        found = f"{length} bytes of head, {levels} levels"
        return Reading(nothing, (_problem(window, 24, found, f"{_INFO_LENGTH} bytes, 0 to 2"),))
    return _pairs(window, _ROOT_PAIRS, levels, seed)


def read_node(window: Window, seed: int | None) -> Reading[IndexNode]:
    """Read a node between root and leaves. Arguments as of `read_root`."""
    if len(window) < _NODE_PAIRS + _PAIR:
        problem = _problem(window, 0, f"{len(window)} bytes", "a block")
        return Reading(IndexNode(0, ()), (problem,))
    inode, length = struct.unpack_from("<IH", window.data)
    whole = length % 65_535 if len(window) == 65_536 else length - len(window)
    if inode or whole:
        found = f"a row of {length} bytes"
        return Reading(IndexNode(0, ()), (_problem(window, 0, found, "one row without a name"),))
    return _pairs(window, _NODE_PAIRS, 0, seed)


def _pairs(window: Window, start: int, levels: int, seed: int | None) -> Reading[IndexNode]:
    most, count = struct.unpack_from("<HH", window.data, start)
    end, used = start + most * _PAIR, start + count * _PAIR
    tail = 0 if seed is None else _TAIL
    if not 0 < count <= most or end + tail > len(window):
        found = f"{count} of {most} pairs"
        return Reading(IndexNode(0, ()), (_problem(window, start, found, "pairs that fit"),))
    numbers = struct.unpack_from(f"<{2 * count}I", window.data, start)[1::2]
    problems: tuple[Problem, ...] = ()
    if seed is not None:
        reserved, kept = struct.unpack_from("<4sI", window.data, end)
        made = crc32c(reserved + bytes(4), crc32c(window.data[:used], seed))
        if kept != made:
            at = window.offset + end + 4
            problems = (Problem("folder-checksum", at, 4, f"{kept:08x}", f"{made:08x}"),)
    return Reading(IndexNode(levels, tuple(each & _BLOCK_MASK for each in numbers)), problems)


def _problem(window: Window, at: int, found: str, wanted: str) -> Problem:
    return Problem("folder-index", window.offset + at, 8, found, wanted)
