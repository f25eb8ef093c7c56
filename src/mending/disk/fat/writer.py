"""Files put on a FAT volume: both FATs, folders with long names, the free-cluster record. Nothing
is written here; what would change comes out as ranges.

Source: the published FAT32 file system specification, version 1.03, sections "FAT Data Structure",
"FAT32 FSInfo Sector Structure and Backup Boot Sector", "FAT Directory Structure" and "FAT Long
Directory Entries".
"""

import struct

from mending.disk.fat.reader import FOLDER_BYTES, FatReader
from mending.disk.fat.write_buffer import WriteBuffer
from mending.formats.filesystem import fat, fat_tables
from mending.formats.filesystem.fat_tables import encode_long_name, free_rows, new_row, short_name
from mending.model import ByteOffset, FilesystemKind, RefusedError
from mending.source import Source

_FILE, _FOLDER = 0x20, 0x10
_INFO_HEAD, _INFO_MARK = b"RRaA", b"rrAa"
_UNKNOWN = 0xFFFFFFFF
_SECTOR = 512


class FatWriter:
    """One volume. Call `put` for each file, then `ranges`.

    Raises:
        InputError: its boot sector or a FAT cannot be read.
    """

    def __init__(self, source: Source, offset: ByteOffset) -> None:
        self._overlay = WriteBuffer(source)
        self._reader = FatReader(self._overlay, offset)  # type: ignore[arg-type]
        self._shape = self._reader.shape
        first = self._shape.fat_offsets[self._shape.fat_in_use]
        bits = fat_tables.entry_bits(self._shape.kind)
        length = min(-(-(self._shape.clusters + 2) * bits // 8), self._shape.fat_bytes)
        parts = [
            self._overlay.read(offset + first + at, min(1 << 20, length - at)).data
            for at in range(0, length, 1 << 20)
        ]
        self._table = list(fat_tables.entries(b"".join(parts) + bytes(2), self._shape.kind))
        self._touched: set[int] = set()

    def put(self, path: str, data: bytes) -> None:
        """Put a file there, in the place of one of the same name; folders on the way are made.

        Raises:
            RefusedError: there is no room for it.
        """
        *folders, name = [part for part in path.split("/") if part]
        parent: fat_tables.DirectoryEntry | None = None
        for folder in folders:
            found = self._inside(parent, folder)
            parent = found if found is not None else self._make_folder(parent, folder)
        first = self._chain(data)
        old = self._inside(parent, name)
        if old is None:
            self._add_row(parent, name, _FILE, first, len(data))
            return
        self._change_row(parent, old, first, len(data))
        for cluster in self._clusters(old.cluster):
            self._set(cluster, 0)

    def ranges(self) -> list[tuple[int, bytes, bytes]]:
        """Offset on the disk, bytes before and bytes after of everything that changes."""
        self._flush()
        return list(self._overlay.ranges())

    def _inside(
        self, folder: fat_tables.DirectoryEntry | None, name: str
    ) -> fat_tables.DirectoryEntry | None:
        wanted = name.casefold()
        rows = fat_tables.rows(self._folder(folder), self._shape.kind)
        return next(
            (row for row in rows if wanted in {row.name.casefold(), row.short.casefold()}), None
        )

    def _clusters(self, first: int) -> list[int]:
        if not first:
            return []
        return fat_tables.chain(self._table, first, self._shape.kind, self._shape.clusters)[0]

    def _places(self, folder: fat_tables.DirectoryEntry | None) -> list[tuple[int, int]]:
        """Where the bytes of a folder lie on the disk, and how many in each place."""
        if folder is None and fat_tables.WIDTHS[self._shape.kind].fixed_root:
            start, length = self._shape.fixed_root
            return [(self._shape.offset + start, length)]
        clusters = self._clusters(self._shape.root_cluster if folder is None else folder.cluster)
        most = FOLDER_BYTES // self._shape.cluster_bytes
        return [(self._offset(cluster), self._shape.cluster_bytes) for cluster in clusters[:most]]

    def _folder(self, folder: fat_tables.DirectoryEntry | None) -> bytes:
        return b"".join(
            self._overlay.read(offset, length).data for offset, length in self._places(folder)
        )

    def _offset(self, cluster: int) -> int:
        return self._shape.offset + self._shape.cluster_offset(cluster)

    def _chain(self, data: bytes) -> int:
        """Put data into free clusters; the first of them, 0 for an empty file."""
        size = self._shape.cluster_bytes
        clusters = self._take(-(-len(data) // size))
        for number, cluster in enumerate(clusters):
            self._overlay.put(
                self._offset(cluster), data[number * size : (number + 1) * size].ljust(size, b"\0")
            )
        return clusters[0] if clusters else 0

    def _take(self, count: int) -> list[int]:
        """Free clusters, linked to each other."""
        if not count:
            return []
        last = min(self._shape.clusters + fat_tables.FIRST_CLUSTER, len(self._table))
        free = [
            number for number in range(fat_tables.FIRST_CLUSTER, last) if not self._table[number]
        ][:count]
        if len(free) < count:
            raise RefusedError("The volume has no room for the file.", "Make room on it first.")
        end = fat_tables.WIDTHS[self._shape.kind].end
        for cluster, following in zip(free, [*free[1:], end], strict=True):
            self._set(cluster, following)
        return free

    def _set(self, cluster: int, value: int) -> None:
        self._table[cluster] = value
        self._touched.add(cluster)

    def _make_folder(
        self, parent: fat_tables.DirectoryEntry | None, name: str
    ) -> fat_tables.DirectoryEntry:
        first = self._take(1)[0]
        above = parent.cluster if parent is not None else 0
        dots = new_row(b".          ", _FOLDER, first, 0) + new_row(
            b"..         ", _FOLDER, above, 0
        )
        self._overlay.put(self._offset(first), dots.ljust(self._shape.cluster_bytes, b"\0"))
        self._add_row(parent, name, _FOLDER, first, 0)
        made = self._inside(parent, name)
        assert made is not None
        return made

    def _add_row(
        self,
        folder: fat_tables.DirectoryEntry | None,
        name: str,
        kind: int,
        first: int,
        length: int,
    ) -> None:
        data = self._folder(folder)
        short = short_name(
            name, {row.short.upper() for row in fat_tables.rows(data, self._shape.kind)}
        )
        rows = [*encode_long_name(name, short), new_row(short, kind, first, length)]
        at = free_rows(data, len(rows))
        while at is None:
            self._lengthen(folder)
            data = self._folder(folder)
            at = free_rows(data, len(rows))
        self._put_in(folder, at, b"".join(rows))

    def _change_row(
        self,
        folder: fat_tables.DirectoryEntry | None,
        old: fat_tables.DirectoryEntry,
        first: int,
        length: int,
    ) -> None:
        raw = bytearray(self._folder(folder)[old.at : old.at + fat_tables.ROW])
        struct.pack_into("<H", raw, 20, first >> 16)
        struct.pack_into("<HI", raw, 26, first & 0xFFFF, length)
        self._put_in(folder, old.at, bytes(raw))

    def _put_in(self, folder: fat_tables.DirectoryEntry | None, at: int, data: bytes) -> None:
        start = 0
        for offset, length in self._places(folder):
            first, last = max(at, start), min(at + len(data), start + length)
            if first < last:
                self._overlay.put(offset + first - start, data[first - at : last - at])
            start += length

    def _lengthen(self, folder: fat_tables.DirectoryEntry | None) -> None:
        if folder is None and fat_tables.WIDTHS[self._shape.kind].fixed_root:
            raise RefusedError("The root folder of the volume is full.", "Make room in it first.")
        clusters = self._clusters(self._shape.root_cluster if folder is None else folder.cluster)
        if len(clusters) >= FOLDER_BYTES // self._shape.cluster_bytes:
            raise RefusedError("A folder of the volume is full.", "Make room in it first.")
        fresh = self._take(1)[0]
        self._overlay.put(self._offset(fresh), bytes(self._shape.cluster_bytes))
        self._set(clusters[-1], fresh)

    def _flush(self) -> None:
        """Entries that changed, into every FAT that is kept alike; and the record of free
        clusters.
        """
        numbers = (
            range(self._shape.fields.fats) if self._shape.mirrored else [self._shape.fat_in_use]
        )
        for cluster in sorted(self._touched):
            for number in numbers:
                self._put_entry(self._shape.offset + self._shape.fat_offsets[number], cluster)
        tail = self._shape.tail
        if (
            not isinstance(tail, fat.LongTail)
            or not 0 < tail.info_sector < self._shape.fields.reserved_sectors
        ):
            return
        at = self._shape.offset + tail.info_sector * self._shape.fields.bytes_per_sector
        info = self._overlay.read(at, _SECTOR).data
        if info[:4] == _INFO_HEAD and info[484:488] == _INFO_MARK:
            last = min(self._shape.clusters + fat_tables.FIRST_CLUSTER, len(self._table))
            free = self._table[fat_tables.FIRST_CLUSTER : last].count(0)
            known = struct.unpack_from("<I", info, 488)[0] != _UNKNOWN
            self._overlay.put(at + 488, struct.pack("<I", free) if known else b"")

    def _put_entry(self, start: int, cluster: int) -> None:
        value = self._table[cluster]
        if self._shape.kind == FilesystemKind.FAT12:
            at = start + cluster * 3 // 2
            old = int.from_bytes(self._overlay.read(at, 2).data, "little")
            mixed = old & 0x000F | value << 4 if cluster & 1 else old & 0xF000 | value
            self._overlay.put(at, mixed.to_bytes(2, "little"))
        elif self._shape.kind == FilesystemKind.FAT16:
            self._overlay.put(start + cluster * 2, struct.pack("<H", value))
        else:
            at = start + cluster * 4
            kept = int.from_bytes(self._overlay.read(at, 4).data, "little") & 0xF0000000
            self._overlay.put(at, struct.pack("<I", kept | value))
