"""Folders of XFS volumes: short ones kept in the inode, and blocks with names.

Source: "XFS Algorithms & Data Structures", third edition, chapter "Directories".
"""

import struct

from mending.model import FolderName, Problem

_HEADS = {b"XD2B": 16, b"XD2D": 16, b"XDB3": 64, b"XDD3": 64}
_WITH_TAIL = {b"XD2B", b"XDB3"}
"""A folder of one block keeps its hashes at the end of it."""
_FREE = 0xFFFF
_LEAF_MAGICS = {b"\x3d\xf1", b"\x3d\xff"}


def short_rows(data: bytes, has_kinds: bool) -> list[FolderName]:
    """The names of a folder that is kept in its inode."""
    if len(data) < 6:
        return []
    count, wide = data[0], 8 if data[1] else 4
    at, found = 2 + wide, list[FolderName]()
    for _ in range(count):
        if at + 3 > len(data):
            break
        end = at + 3 + data[at]
        kind = data[end] if has_kinds and end < len(data) else 0
        place = end + int(has_kinds)
        if place + wide > len(data):
            break
        inode = int.from_bytes(data[place : place + wide], "big")
        found.append(FolderName(inode, data[at + 3 : end], kind))
        at = place + wide
    return found


def rows(block: bytes, base: int, has_kinds: bool) -> tuple[list[FolderName], list[Problem]]:
    """The names in a block.

    Args:
        base: absolute offset of the block, for problems.
    """
    head = _HEADS.get(block[:4], 0)
    if not head:
        found, wanted = block[:4].hex(" "), "a block of names"
        return [], [Problem("folder-magic", base, 4, found, wanted)]
    end = len(block)
    if block[:4] in _WITH_TAIL and end >= 8:
        end -= 8 + 8 * int.from_bytes(block[-8:-4], "big")
    at, listed = head, list[FolderName]()
    while at + 8 <= end:
        tag, length = struct.unpack_from(">HH", block, at)
        if tag == _FREE:
            if length < 8 or length % 8:
                break
            at += length
            continue
        count = block[at + 8] if at + 9 <= end else 0
        size = -(-(8 + 1 + count + int(has_kinds) + 2) // 8) * 8
        if not count or at + size > end:
            break
        inode = int.from_bytes(block[at : at + 8], "big")
        kind = block[at + 9 + count] if has_kinds else 0
        listed.append(FolderName(inode, block[at + 9 : at + 9 + count], kind))
        at += size
    if at < end:
        return listed, [Problem("folder-row", base + at, 8, "a row without a length", "a row")]
    return listed, []
