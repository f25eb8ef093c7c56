"""Whether an XFS volume was closed, by the last record of its log."""

from mending.disk.volume.volume import Volume
from mending.formats.xfs import log as xfs_log
from mending.formats.xfs import structures as xfs
from mending.model import VolumeState
from mending.source import Source

_LOG_BLOCKS_MOST = 1 << 22
"""The longest log there is, 2 GiB less a little."""


def xfs_state(source: Source, volume: Volume) -> VolumeState:
    """Unknown where the log lies on another device, or tells nothing.

    Raises:
        InputError: it cannot be read.
    """
    block = xfs.SUPERBLOCK.read(source.read(volume.offset, xfs.SIZE), 0)
    start = block.log_high << 32 | block.log_low
    if not block.makes_sense or not start:
        return VolumeState.UNKNOWN
    count = block.log_blocks * block.block_size // xfs_log.BLOCK
    if not 0 < count <= _LOG_BLOCKS_MOST:
        return VolumeState.UNKNOWN
    group, inside = start >> block.group_log, start & ((1 << block.group_log) - 1)
    at = volume.offset + (group * block.group_blocks + inside) * block.block_size

    def read(offset: int, length: int) -> bytes:
        return source.read(at + offset, length).data

    closed = xfs_log.was_closed(read, count)
    if closed is None:
        return VolumeState.UNKNOWN
    return VolumeState.CLEAN if closed else VolumeState.DIRTY
