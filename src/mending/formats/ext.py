"""Just enough of an ext2, ext3 or ext4 volume to know it: magic number, label, size.

Source: Linux kernel documentation, "ext4 Data Structures and Algorithms", section "Super Block".
"""

import msgspec

from mending.model import Field, Layout, Reading, Window, plain_bytes

SUPERBLOCK_OFFSET = 1024
SIZE = 1024
MAGIC = 0xEF53


class Superblock(msgspec.Struct, frozen=True):
    """The fields that say what and how large the volume is."""

    blocks: int
    log_block_kib: int
    magic: int
    label: bytes

    @property
    def bytes(self) -> int:
        """Length of the volume in bytes, by its low 32 bits of blocks; 0 when the block size makes no sense."""
        return self.blocks * (1024 << self.log_block_kib) if self.log_block_kib <= 6 else 0

    @property
    def name(self) -> str:
        """The label as text."""
        return plain_bytes(self.label)


SUPERBLOCK = Layout(
    Superblock,
    SIZE,
    [
        Field("blocks", 4, 4, "u", "blocks", "length"),
        Field("log_block_kib", 24, 4, "u", "", "block size is 1 KiB shifted by this"),
        Field("magic", 56, 2, "u", "", "53 ef"),
        Field("label", 120, 16, "bytes", "", "volume label"),
    ],
)


def looks_like(window: Window) -> bool:
    """Whether the window, which starts at the volume, holds a superblock at its place."""
    end = SUPERBLOCK_OFFSET + SIZE
    return len(window) >= end and SUPERBLOCK.read(window, SUPERBLOCK_OFFSET).magic == MAGIC


def read(window: Window) -> Reading[Superblock]:
    """Read the superblock of a window that starts at the volume. Raises InputError below 2048 bytes."""
    return Reading(SUPERBLOCK.read(window, SUPERBLOCK_OFFSET))
