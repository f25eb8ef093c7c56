"""Blocks of folders on ext volumes that hold names: all of a small folder, and the leaves of a
large one, which are read one after another. Its other blocks are in `ext_index`.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", sections "Directory
Entries" and "Checksums".
"""

import struct

from mending.model import FolderName, Problem, crc32c, hex_preview

_HEAD = 8
_TAIL, _TAIL_KIND = 12, 0xDE
_LONGEST = 65_536
"""A row as long as the longest block, which does not fit the field, is written as 65535 or 0."""


def rows(block: bytes, base: int, has_kinds: bool) -> tuple[list[FolderName], list[Problem]]:
    """The names in a block.

    Args:
        block: one block, or what an inode keeps of a small folder.
        base: absolute offset of the block, for problems.
        has_kinds: whether rows keep the kind of file beside a length of one byte.
    """
    found: list[FolderName] = []
    at = 0
    while at + _HEAD <= len(block):
        inode, length, count, kind = struct.unpack_from("<IHBB", block, at)
        if not has_kinds:
            count, kind = count | kind << 8, 0
        length = _LONGEST if length in {0, _LONGEST - 1} and len(block) == _LONGEST else length
        if length < _HEAD or at + length > len(block) or (inode and count + _HEAD > length):
            problem = Problem("folder-row", base + at, 8, f"a row of {length} bytes", "a row")
            return found, [problem]
        if inode:
            found.append(FolderName(inode, block[at + _HEAD : at + _HEAD + count], kind))
        at += length
    return found, []


def checksum_problem(block: bytes, base: int, seed: int) -> Problem | None:
    """Whether the checksum in the last row of a block with names fits."""
    if block[-_TAIL:-4] != bytes((0, 0, 0, 0, _TAIL, 0, 0, _TAIL_KIND)):
        at, found = base + len(block) - _TAIL, hex_preview(block[-_TAIL:])
        return Problem("folder-checksum", at, _TAIL, found, "a last row with a checksum")
    kept, made = int.from_bytes(block[-4:], "little"), crc32c(block[:-_TAIL], seed)
    if kept == made:
        return None
    at = base + len(block) - 4
    return Problem("folder-checksum", at, 4, f"{kept:08x}", f"{made:08x}")
