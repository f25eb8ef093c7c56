"""What a piece of 16-bit boot code is, told by what it contains."""

from enum import StrEnum

from mending.formats.bootloader import grub
from mending.model import Window

_TABLE_ADDRESSES = (b"\xbe\x07", b"\xbe\x7d", b"\xbe\x01", b"\xee\x07")
"""Where the table is in memory: at 600h+1beh after moving itself, at 7c00h+1beh before, or relative
to a segment.
"""
_NO_SYSTEM_TEXT = b"not a bootable disk"
"""The sentence that formatting programs leave behind instead of boot code."""


class CodeKind(StrEnum):
    """How an MBR finds the next link."""

    BLANK = "blank"
    GRUB = "grub"
    ACTIVE_ENTRY = "active-entry"
    MESSAGE = "message"
    UNKNOWN = "unknown"


def recognise_code(sector: Window) -> CodeKind:
    """The kind of boot code in a first sector of at least 440 bytes."""
    code = sector.take(0, min(len(sector), 440))
    if not code.strip(b"\0") or not code.strip(b"\xff"):
        return CodeKind.BLANK
    if grub.is_stage_one(sector):
        return CodeKind.GRUB
    if _NO_SYSTEM_TEXT in code:
        return CodeKind.MESSAGE
    if not code[:16].strip(b"\0"):
        return CodeKind.UNKNOWN  # whatever follows, the processor starts at the first byte
    return (
        CodeKind.ACTIVE_ENTRY
        if any(address in code for address in _TABLE_ADDRESSES)
        else CodeKind.UNKNOWN
    )
