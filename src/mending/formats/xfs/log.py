"""The log of an XFS volume, as far as telling whether it was closed: a log that was closed ends in
a record with one operation, which says so.

The log is a ring of blocks of 512 bytes. The first word of every block counts how often the ring
was gone round (in the head of a record it is the second word); where that count falls is the end of
what was written. The kernel finds that place by halving, and so does this.

Source: "XFS Algorithms & Data Structures", third edition, chapter "Journaling Log".
"""

import struct
from collections.abc import Callable

BLOCK = 512
_MAGIC = 0xFEED_BABE
_UNMOUNT = 0x20
_PER_HEAD = 32_768
_MOST_BACK = 1100
"""Blocks of the longest record, its head included."""
_FLAGS_AT, _COUNT_AT, _VERSION_AT, _SIZE_AT = 9, 40, 8, 320

Read = Callable[[int, int], bytes]
"""Offset in the log and length to bytes."""


def was_closed(read: Read, blocks: int) -> bool | None:
    """Whether the last record says that the volume was unmounted; None where no record is found.

    Args:
        blocks: length of the log.

    Raises:
        InputError: from `read`.
    """
    if blocks < 1:
        return None
    end = _end(read, blocks)
    for back in range(1, min(_MOST_BACK, blocks) + 1):
        at = (end - back) % blocks
        head = _block(read, at)
        if _word(head, 0) == _MAGIC:
            return _says_unmounted(read, head, at, blocks)
    return None


def _says_unmounted(read: Read, head: bytes, at: int, blocks: int) -> bool:
    if _word(head, _COUNT_AT) != 1:
        return False
    heads = 1
    if _word(head, _VERSION_AT) & 2:
        heads = max(1, -(-_word(head, _SIZE_AT) // _PER_HEAD))
    return bool(_block(read, (at + heads) % blocks)[_FLAGS_AT] & _UNMOUNT)


def _end(read: Read, blocks: int) -> int:
    """The first block behind what was written last."""
    first = _round(_block(read, 0))
    if _round(_block(read, blocks - 1)) == first:
        return 0
    low, high = 0, blocks - 1
    while high - low > 1:
        middle = (low + high) // 2
        if _round(_block(read, middle)) == first:
            low = middle
        else:
            high = middle
    return high


def _block(read: Read, number: int) -> bytes:
    return read(number * BLOCK, BLOCK).ljust(BLOCK, b"\0")


def _round(block: bytes) -> int:
    return _word(block, 4 if _word(block, 0) == _MAGIC else 0)


def _word(block: bytes, at: int) -> int:
    number: int = struct.unpack_from(">I", block.ljust(BLOCK, b"\0"), at)[0]
    return number
