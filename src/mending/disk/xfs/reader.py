"""Files and folders of an XFS volume: all blocks of names read one after another, the tree of
hashes beside them left alone.
"""

from collections.abc import Iterator

from mending.disk.inodes import InodeReader, Run
from mending.disk.xfs.volume import XfsVolume
from mending.formats.xfs import folders as xfs_folders
from mending.formats.xfs import structures as xfs
from mending.formats.xfs.structures import Inode
from mending.model import ByteOffset, FolderName, InputError, Problem
from mending.source import Source

_HASHES_FROM = 1 << 35
"""Byte of a folder from which on hashes of names follow instead of names."""
_FOLDER_BYTES = 64 * 1024 * 1024
"""Most bytes of one folder that are read: a million names."""
_LINK_BYTES, _LINK_MAGIC, _LINK_HEAD = 8192, b"XSLM", 56


class XfsReader(InodeReader[Inode]):
    """One opened volume.

    Raises:
        InputError: its superblock makes no sense, or needs what is not known here.
    """

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        super().__init__()
        self._volume = XfsVolume(source, offset)
        self.root, self.block_bytes = self._volume.block.root, self._volume.size

    def _inode(self, number: int) -> Inode:
        return self._volume.inode(number)

    def _inline(self, inode: Inode) -> bytes | None:
        return inode.fork if inode.format == xfs.LOCAL else None

    def _runs(self, inode: Inode, blocks: int) -> Iterator[Run]:
        for run in self._volume.runs(inode, blocks):
            place = None if run.start is None else self._volume.place(run.start)
            yield run.first, run.count, place

    def _bytes(self, offset: int, length: int) -> bytes:
        return self._volume.read(offset, length)

    def _target(self, inode: Inode) -> bytes:
        """The target of a link; in blocks, each has a head where there are checksums."""
        if inode.format == xfs.LOCAL:
            return inode.fork[: inode.length]
        parts, size = [], self.block_bytes
        for run in self._volume.runs(inode, -(-_LINK_BYTES // size)):
            for at in range(min(run.count, _LINK_BYTES // size) if run.start is not None else 0):
                data = self._volume.window((run.start or 0) + at).data
                parts.append(data[_LINK_HEAD:] if data[:4] == _LINK_MAGIC else data)
        return b"".join(parts)[: inode.length]

    def _names(self, inode: Inode, problems: list[Problem]) -> Iterator[FolderName]:
        kinds = self._volume.block.has_kinds
        if inode.format == xfs.LOCAL:
            yield from xfs_folders.short_rows(inode.fork[: inode.length], kinds)
            return
        for base, block in self._blocks(inode, problems):
            found, wrong = xfs_folders.rows(block, base, kinds)
            yield from found
            problems += wrong

    def _blocks(self, inode: Inode, problems: list[Problem]) -> Iterator[tuple[int, bytes]]:
        """The blocks of names of a folder, each with its absolute offset."""
        size, together = self._volume.size, 1 << self._volume.block.folder_log
        most = min(inode.length, _FOLDER_BYTES, _HASHES_FROM) // size
        try:
            for run in self._volume.runs(inode, most):
                for at in range(0, min(run.count, most - run.first), together):
                    if run.start is None:
                        raise InputError("a block of names was never written.")
                    window = self._volume.window(run.start + at, together)
                    yield window.offset, window.data
        except InputError as error:
            problems.append(Problem("folder-lost", 0, 0, str(error), "its blocks"))
