"""Files and folders of a FAT volume as firmware sees them: by the first FAT, and no farther than
its chains hold.
"""

from collections.abc import Sequence
from typing import overload

from mending.formats.filesystem import fat, fat_tables
from mending.model import ByteOffset, DamagedFileError, InputError
from mending.source import Source

Listed = tuple[str, int, bool, bool, int]
"""Name, length in bytes, whether it is a folder, whether it is a link (never), permission bits
(all).
"""
_ALL_PERMISSIONS = 0o777
_STEP = 65_536
"""Bytes of the FAT that are read at a time."""
_PIECES = 32
"""Most of them that are kept: a damaged chain may jump all over the disk."""
FOLDER_BYTES = 65_536 * fat_tables.ROW
"""The specification allows no longer folder."""


class FatReader:
    """One opened volume.

    Raises:
        InputError: its boot sector cannot be read.
    """

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        self._source = source
        self.shape = fat.read(source.read(offset, fat.SIZE)).record
        self.table = LazyTable(source, self.shape)

    def listing(self, folder: str) -> list[Listed]:
        """What a folder holds, as far as its chain holds."""
        return [
            (row.name, row.bytes, row.folder, False, _ALL_PERMISSIONS)
            for row in self.rows(self._find(folder))
        ]

    def read(self, path: str, length: int) -> bytes:
        """The first bytes of a file.

        Raises:
            DamagedFileError: its chain ends before that.
            ReadError: a sector of it cannot be read.
        """
        row = self._find(path)
        wanted = min(length, row.bytes if row is not None else 0)
        if row is None or not wanted:
            return b""
        needed = -(-wanted // self.shape.cluster_bytes)
        clusters, why = self.chain(row.cluster, needed)
        if len(clusters) < needed:
            raise DamagedFileError(
                f"its chain {why or 'ends'} after {len(clusters)} of {needed} clusters"
            )
        return self._bytes(clusters[:needed])[:wanted]

    def extents(self, path: str) -> list[tuple[int, int]] | None:
        """Where a file's clusters lie, offset in the volume and length in bytes; None where its
        chain is broken.
        """
        row, size = self._find(path), self.shape.cluster_bytes
        needed = -(-row.bytes // size) if row is not None else 0
        clusters, _ = self.chain(row.cluster, needed) if row is not None and needed else ([], "")
        return (
            [(self.shape.cluster_offset(cluster), size) for cluster in clusters]
            if len(clusters) == needed
            else None
        )

    def link(self, path: str) -> str:
        """FAT knows no links.

        Raises:
            InputError
        """
        raise InputError(f"{path} is no link.")

    def is_packed(self, path: str) -> bool:  # noqa: ARG002 - the shape is that of all readers
        """FAT keeps files as they are."""
        return False

    def hidden(self, folder: str) -> str:  # noqa: ARG002 - the shape is that of all readers
        """A chain that ends too early ends the folder, for firmware too."""
        return ""

    def chain(self, first: int, most: int) -> tuple[list[int], str]:
        """At most so many clusters of a chain by the FAT in use, and why it ends too early; empty
        when it does not.
        """
        return fat_tables.chain(self.table, first, self.shape.kind, self.shape.clusters, most)

    def rows(self, folder: fat_tables.DirectoryEntry | None) -> list[fat_tables.DirectoryEntry]:
        """The rows of a folder; None stands for the root."""
        return list(fat_tables.rows(self.folder_bytes(folder), self.shape.kind))

    def folder_bytes(self, folder: fat_tables.DirectoryEntry | None) -> bytes:
        """The bytes of a folder, as far as its chain holds; None stands for the root."""
        if folder is None and fat_tables.WIDTHS[self.shape.kind].fixed_root:
            start, length = self.shape.fixed_root
            return self._source.read(self.shape.offset + start, length).data
        most = FOLDER_BYTES // max(self.shape.cluster_bytes, 1)
        return self._bytes(
            self.chain(self.shape.root_cluster if folder is None else folder.cluster, most)[0]
        )

    def find(self, path: str) -> fat_tables.DirectoryEntry | None:
        """The row of a file or folder by either of its names, in any case; None where there is
        none.
        """
        found: fat_tables.DirectoryEntry | None = None
        for name in [part for part in path.split("/") if part]:
            if found is not None and not found.folder:
                return None
            wanted = name.casefold()
            inside = self.rows(found)
            found = next(
                (row for row in inside if wanted in {row.name.casefold(), row.short.casefold()}),
                None,
            )
            if found is None:
                return None
        return found

    def _find(self, path: str) -> fat_tables.DirectoryEntry | None:
        found = self.find(path)
        if found is None and path.strip("/"):
            raise InputError(f"There is no {path} on this volume.")
        return found

    def _bytes(self, clusters: Sequence[int]) -> bytes:
        """The content of clusters; neighbours are read at once."""
        size, parts = self.shape.cluster_bytes, []
        runs: list[list[int]] = []
        for cluster in clusters:
            if runs and cluster == runs[-1][0] + runs[-1][1] and (runs[-1][1] + 1) * size <= _STEP:
                runs[-1][1] += 1
            else:
                runs.append([cluster, 1])
        for first, count in runs:
            parts.append(
                self._source.read(
                    self.shape.offset + self.shape.cluster_offset(first), count * size
                ).data
            )
        return b"".join(parts)


class LazyTable(Sequence[int]):
    """The FAT in use as numbers, read piece by piece; a piece that cannot be read raises
    ReadError.
    """

    def __init__(self, source: Source, shape: fat.FatVolume) -> None:
        self._source, self._shape = source, shape
        self._bits = fat_tables.entry_bits(shape.kind)
        self._start = shape.offset + (shape.fat_offsets or (0,))[shape.fat_in_use]
        self._pieces: dict[int, bytes] = {}
        self._per_piece = _STEP * 8 // self._bits // 2 * 2
        self._length = min(
            shape.clusters + fat_tables.FIRST_CLUSTER, shape.fat_bytes * 8 // self._bits
        )

    def __len__(self) -> int:
        return self._length

    @overload
    def __getitem__(self, at: int) -> int: ...

    @overload
    def __getitem__(self, at: slice) -> Sequence[int]: ...

    def __getitem__(self, at: int | slice) -> int | Sequence[int]:
        if isinstance(at, slice):
            return [self[number] for number in range(*at.indices(len(self)))]
        if not 0 <= at < len(self):
            raise IndexError(at)
        number, inside = divmod(at, self._per_piece)
        if number not in self._pieces:
            while len(self._pieces) >= _PIECES:
                del self._pieces[next(iter(self._pieces))]
            length = self._per_piece * self._bits // 8
            self._pieces[number] = self._source.read(self._start + number * length, length + 2).data
        return fat_tables.entry_at(self._pieces[number], inside, self._shape.kind)
