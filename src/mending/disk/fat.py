"""Files and folders of a FAT volume as firmware sees them: by the first FAT, and no farther than
its chains hold.
"""

import struct
from collections.abc import Iterator, Sequence
from typing import overload

import msgspec

from mending.formats import fat
from mending.formats.fat import encode_long_name, free_rows, new_row, short_name
from mending.model import (
    ByteOffset,
    DamagedFileError,
    FilesystemKind,
    InputError,
    ReadError,
    RefusedError,
    Window,
)
from mending.model.limits import FOLDER_ROWS, TABLE_BYTES, WINDOW_BYTES
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
FOLDER_BYTES = 65_536 * fat.ROW
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
        return fat.chain(self.table, first, self.shape.kind, self.shape.clusters, most)

    def rows(self, folder: fat.DirectoryEntry | None) -> list[fat.DirectoryEntry]:
        """The rows of a folder; None stands for the root."""
        return list(fat.rows(self.folder_bytes(folder), self.shape.kind))

    def folder_bytes(self, folder: fat.DirectoryEntry | None) -> bytes:
        """The bytes of a folder, as far as its chain holds; None stands for the root."""
        if folder is None and fat.WIDTHS[self.shape.kind].fixed_root:
            start, length = self.shape.fixed_root
            return self._source.read(self.shape.offset + start, length).data
        most = FOLDER_BYTES // max(self.shape.cluster_bytes, 1)
        return self._bytes(
            self.chain(self.shape.root_cluster if folder is None else folder.cluster, most)[0]
        )

    def find(self, path: str) -> fat.DirectoryEntry | None:
        """The row of a file or folder by either of its names, in any case; None where there is
        none.
        """
        found: fat.DirectoryEntry | None = None
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

    def _find(self, path: str) -> fat.DirectoryEntry | None:
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
        self._bits = fat.entry_bits(shape.kind)
        self._start = shape.offset + (shape.fat_offsets or (0,))[shape.fat_in_use]
        self._pieces: dict[int, bytes] = {}
        self._per_piece = _STEP * 8 // self._bits // 2 * 2
        self._length = min(shape.clusters + fat.FIRST_CLUSTER, shape.fat_bytes * 8 // self._bits)

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
        return fat.entry_at(self._pieces[number], inside, self._shape.kind)


# Bytes of a source as they would be, gathered before anything is written.


_SECTOR = 512


class WriteBuffer:
    """A source as it would be, kept in sectors of 512 bytes."""

    def __init__(self, source: Source) -> None:
        self._source = source
        self.size, self.bytes_read = source.size, 0
        self.changed: dict[int, bytearray] = {}

    def read(self, offset: int, length: int) -> Window:
        """See `Source.read`."""
        data = bytearray(self._source.read(offset, length).data)
        for number in range(offset // _SECTOR, -(-(offset + len(data)) // _SECTOR)):
            sector = self.changed.get(number)
            if sector is not None:
                start, end = (
                    max(offset, number * _SECTOR),
                    min(offset + len(data), (number + 1) * _SECTOR),
                )
                data[start - offset : end - offset] = sector[
                    start - number * _SECTOR : end - number * _SECTOR
                ]
        return Window(bytes(data), offset)

    def put(self, offset: int, data: bytes) -> None:
        """Change some bytes."""
        at = 0
        while at < len(data):
            number, inside = divmod(offset + at, _SECTOR)
            if number not in self.changed:
                self.changed[number] = bytearray(self._source.read(number * _SECTOR, _SECTOR).data)
            step = min(_SECTOR - inside, len(data) - at)
            self.changed[number][inside : inside + step] = data[at : at + step]
            at += step

    def ranges(self) -> Iterator[tuple[int, bytes, bytes]]:
        """Offset, bytes before and bytes after of every stretch that changed."""
        for first, last in self._stretches():
            after = b"".join(bytes(self.changed[number]) for number in range(first, last + 1))
            before = self._source.read(first * _SECTOR, len(after)).data
            if before != after:
                yield first * _SECTOR, before, after

    def _stretches(self) -> Iterator[tuple[int, int]]:
        """First and last sector of each stretch, none longer than one read may be."""
        first = last = -1
        for number in sorted(self.changed):
            if first >= 0 and number == last + 1 and (number - first) * _SECTOR < WINDOW_BYTES // 2:
                last = number
                continue
            if first >= 0:
                yield first, last
            first = last = number
        if first >= 0:
            yield first, last


# Files put on a FAT volume: both FATs, folders with long names, the free-cluster record. Nothing
# is written here; what would change comes out as ranges.
#
# Source: the published FAT32 file system specification, version 1.03, sections "FAT Data
# Structure", "FAT32 FSInfo Sector Structure and Backup Boot Sector", "FAT Directory Structure" and
# "FAT Long Directory Entries".


_FILE, _FOLDER = 0x20, 0x10
_INFO_HEAD, _INFO_MARK = b"RRaA", b"rrAa"
_UNKNOWN = 0xFFFFFFFF


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
        bits = fat.entry_bits(self._shape.kind)
        length = min(-(-(self._shape.clusters + 2) * bits // 8), self._shape.fat_bytes)
        parts = [
            self._overlay.read(offset + first + at, min(1 << 20, length - at)).data
            for at in range(0, length, 1 << 20)
        ]
        self._table = list(fat.entries(b"".join(parts) + bytes(2), self._shape.kind))
        self._touched: set[int] = set()

    def put(self, path: str, data: bytes) -> None:
        """Put a file there, in the place of one of the same name; folders on the way are made.

        Raises:
            RefusedError: there is no room for it.
        """
        *folders, name = [part for part in path.split("/") if part]
        parent: fat.DirectoryEntry | None = None
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

    def _inside(self, folder: fat.DirectoryEntry | None, name: str) -> fat.DirectoryEntry | None:
        wanted = name.casefold()
        rows = fat.rows(self._folder(folder), self._shape.kind)
        return next(
            (row for row in rows if wanted in {row.name.casefold(), row.short.casefold()}), None
        )

    def _clusters(self, first: int) -> list[int]:
        if not first:
            return []
        return fat.chain(self._table, first, self._shape.kind, self._shape.clusters)[0]

    def _places(self, folder: fat.DirectoryEntry | None) -> list[tuple[int, int]]:
        """Where the bytes of a folder lie on the disk, and how many in each place."""
        if folder is None and fat.WIDTHS[self._shape.kind].fixed_root:
            start, length = self._shape.fixed_root
            return [(self._shape.offset + start, length)]
        clusters = self._clusters(self._shape.root_cluster if folder is None else folder.cluster)
        most = FOLDER_BYTES // self._shape.cluster_bytes
        return [(self._offset(cluster), self._shape.cluster_bytes) for cluster in clusters[:most]]

    def _folder(self, folder: fat.DirectoryEntry | None) -> bytes:
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
        last = min(self._shape.clusters + fat.FIRST_CLUSTER, len(self._table))
        free = [number for number in range(fat.FIRST_CLUSTER, last) if not self._table[number]][
            :count
        ]
        if len(free) < count:
            raise RefusedError("The volume has no room for the file.", "Make room on it first.")
        end = fat.WIDTHS[self._shape.kind].end
        for cluster, following in zip(free, [*free[1:], end], strict=True):
            self._set(cluster, following)
        return free

    def _set(self, cluster: int, value: int) -> None:
        self._table[cluster] = value
        self._touched.add(cluster)

    def _make_folder(self, parent: fat.DirectoryEntry | None, name: str) -> fat.DirectoryEntry:
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
        folder: fat.DirectoryEntry | None,
        name: str,
        kind: int,
        first: int,
        length: int,
    ) -> None:
        data = self._folder(folder)
        short = short_name(name, {row.short.upper() for row in fat.rows(data, self._shape.kind)})
        rows = [*encode_long_name(name, short), new_row(short, kind, first, length)]
        at = free_rows(data, len(rows))
        while at is None:
            self._lengthen(folder)
            data = self._folder(folder)
            at = free_rows(data, len(rows))
        self._put_in(folder, at, b"".join(rows))

    def _change_row(
        self,
        folder: fat.DirectoryEntry | None,
        old: fat.DirectoryEntry,
        first: int,
        length: int,
    ) -> None:
        raw = bytearray(self._folder(folder)[old.at : old.at + fat.ROW])
        struct.pack_into("<H", raw, 20, first >> 16)
        struct.pack_into("<HI", raw, 26, first & 0xFFFF, length)
        self._put_in(folder, old.at, bytes(raw))

    def _put_in(self, folder: fat.DirectoryEntry | None, at: int, data: bytes) -> None:
        start = 0
        for offset, length in self._places(folder):
            first, last = max(at, start), min(at + len(data), start + length)
            if first < last:
                self._overlay.put(offset + first - start, data[first - at : last - at])
            start += length

    def _lengthen(self, folder: fat.DirectoryEntry | None) -> None:
        if folder is None and fat.WIDTHS[self._shape.kind].fixed_root:
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
            last = min(self._shape.clusters + fat.FIRST_CLUSTER, len(self._table))
            free = self._table[fat.FIRST_CLUSTER : last].count(0)
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


# The two FATs of a volume: do they agree, and if not, with which of them do folders and files hang
# together?
#
# Drivers write both and read the first, so a difference means that something went wrong in between,
# and nothing in the tables says where. What tells is the use of them: every folder is walked by
# each table, and counted is what cannot be (chains that run into free clusters, into each other, in
# circles, or are shorter than the file) and what is in use and belongs to nothing. The table with
# which everything hangs together is the right one; where both fit alike, or neither does, it is
# said that it cannot be told.


class FatCopy(msgspec.Struct, frozen=True):
    """One FAT.

    Attributes:
        offset: where it starts on the disk.
        data: the entries that clusters have; at most `TABLE_BYTES` are read.
        problem: why it cannot be read; empty when it can.
    """

    number: int
    offset: ByteOffset
    data: bytes
    problem: str = ""


class FatRating(msgspec.Struct, frozen=True):
    """How well one FAT fits the folders.

    Attributes:
        faults: chains of files and folders that do not end as they should, are too short or too
            long, or are shared.
        lost: clusters in use that belong to nothing.
        first: the first fault in words; empty where there is none.
        complete: whether every folder was walked.
    """

    faults: int
    lost: int
    first: str
    complete: bool

    @property
    def rank(self) -> tuple[int, int]:
        """The lower, the sounder."""
        return self.faults, self.lost


class FatPair(msgspec.Struct, frozen=True):
    """Both FATs of a volume, in the order of the disk.

    Attributes:
        whole: whether all of each was read.
        differ_at: offset of the first byte that differs, from the start of a FAT; None where they
            agree.
    """

    copies: tuple[FatCopy, ...]
    whole: bool
    differ_at: int | None


def read_fats(source: Source, volume: fat.FatVolume) -> FatPair:
    """Read and compare the FATs of a volume whose boot sector can be read."""
    needed = (volume.clusters + fat.FIRST_CLUSTER) * fat.entry_bits(volume.kind)
    length = min(-(-needed // 8), volume.fat_bytes)
    copies = tuple(
        _copy(source, number, ByteOffset(volume.offset + at), min(length, TABLE_BYTES))
        for number, at in enumerate(volume.fat_offsets, 1)
    )
    readable = [copy for copy in copies if not copy.problem]
    kept_alike = len(readable) == 2 and volume.mirrored
    differ = (
        _first_difference(readable[0].data, readable[1].data, volume.kind) if kept_alike else None
    )
    return FatPair(copies, length <= TABLE_BYTES, differ)


def judge(source: Source, volume: fat.FatVolume, copy: FatCopy) -> FatRating:
    """Walk every folder by one FAT.

    Raises:
        ReadError: a folder cannot be read.
    """
    walk = _Walk(source, volume, fat.entries(copy.data, volume.kind))
    walk.run()
    return FatRating(walk.faults, walk.lost(), walk.first, walk.complete)


def sound_one(source: Source, volume: fat.FatVolume, pair: FatPair) -> tuple[FatCopy | None, str]:
    """Which FAT is to be believed, and why, or why it cannot be told. Ask only where they do not
    agree.
    """
    readable = [copy for copy in pair.copies if not copy.problem]
    if len(readable) == 1 and len(pair.copies) == 2:
        return (
            readable[0],
            (
                "the other one cannot be read:"
                f" {next(copy.problem for copy in pair.copies if copy.problem)}"
            ),
        )
    if len(readable) != 2 or not pair.whole:
        return None, "they are too long to be walked here" if readable else "none can be read"
    try:
        rating, other = (judge(source, volume, copy) for copy in readable)
    except ReadError as error:
        return None, f"a folder cannot be read: {error.says}"
    if not (rating.complete and other.complete):
        return None, "there are too many folders to walk"
    if rating.faults and other.faults:
        return None, f"both are damaged: by the first, {rating.first}; by the second, {other.first}"
    if rating.faults or other.faults:
        good, bad = (readable[0], other) if other.faults else (readable[1], rating)
        return good, f"by the other one {(bad if bad.faults else rating).first}"
    if rating.lost == other.lost:
        return readable[0], "every file hangs together by both, and systems read the first"
    good, less, more = (
        (readable[0], rating, other) if rating.lost < other.lost else (readable[1], other, rating)
    )
    return (
        good,
        f"{less.lost} clusters in use belong to nothing by it, {more.lost} by the other one",
    )


class _Walk:
    """One walk over all folders by one table; counts what does not hang together."""

    def __init__(self, source: Source, volume: fat.FatVolume, table: Sequence[int]) -> None:
        self._source, self._volume, self._table = source, volume, table
        self._owned = bytearray(min(volume.clusters + fat.FIRST_CLUSTER, len(table)))
        self._rows = 0
        self.faults, self.first, self.complete = 0, "", True

    def run(self) -> None:
        """Walk from the root down."""
        waiting = [("the root folder", self._root())]
        while waiting:
            name, data = waiting.pop()
            for row in fat.rows(data, self._volume.kind):
                self._rows += 1
                if self._rows > FOLDER_ROWS:
                    self.complete = False
                    return
                clusters = self._file(row)
                if row.folder and clusters:
                    waiting.append((f"{name}/{row.name}", b"".join(self._read(clusters))))

    def lost(self) -> int:
        """Clusters that are in use and belong to nothing that was walked; bad ones are marked and
        not counted.
        """
        kind, last = self._volume.kind, self._volume.clusters + fat.FIRST_CLUSTER
        bad = fat.WIDTHS[kind].bad
        table = self._table[fat.FIRST_CLUSTER : last]
        owned = self._owned[fat.FIRST_CLUSTER :]
        return sum(
            1
            for entry, owner in zip(table, owned, strict=False)
            if entry and entry != bad and not owner
        )

    def _root(self) -> bytes:
        start, length = self._volume.fixed_root
        if fat.WIDTHS[self._volume.kind].fixed_root:
            return self._source.read(self._volume.offset + start, length).data
        return b"".join(self._read(self._chain("the root folder", self._volume.root_cluster)[0]))

    def _file(self, row: fat.DirectoryEntry) -> list[int]:
        if not row.cluster:
            if row.bytes and not row.folder:
                self._fault(f"{row.name} has {row.bytes} bytes and no cluster")
            return []
        clusters, sound = self._chain(row.name, row.cluster)
        wanted = -(-row.bytes // max(self._volume.cluster_bytes, 1))
        if not row.folder and sound and len(clusters) != wanted:
            self._fault(f"{row.name} needs {wanted} clusters and has {len(clusters)}")
        return clusters

    def _chain(self, name: str, first: int) -> tuple[list[int], bool]:
        clusters, why = fat.chain(self._table, first, self._volume.kind, self._volume.clusters)
        if why:
            self._fault(f"the chain of {name} {why}")
        shared = next((cluster for cluster in clusters if self._owned[cluster]), None)
        if shared is not None:
            self._fault(f"cluster {shared} of {name} belongs to something else, too")
            return [], False  # what lies there is walked already
        for cluster in clusters:
            self._owned[cluster] = 1
        return clusters, not why

    def _fault(self, says: str) -> None:
        self.faults += 1
        self.first = self.first or says

    def _read(self, clusters: Sequence[int]) -> Iterator[bytes]:
        for cluster in clusters[: FOLDER_BYTES // max(self._volume.cluster_bytes, 1)]:
            at = self._volume.offset + self._volume.cluster_offset(cluster)
            yield self._source.read(at, self._volume.cluster_bytes).data


def _copy(source: Source, number: int, offset: ByteOffset, length: int) -> FatCopy:
    try:
        data = source.read(offset, length).data
    except ReadError as error:
        return FatCopy(number, offset, b"", error.says)
    short = f"it ends after {len(data)} of {length} bytes" if len(data) < length else ""
    return FatCopy(number, offset, data, short)


def _first_difference(data: bytes, other: bytes, kind: FilesystemKind) -> int | None:
    """Behind entries 0 and 1, in which a running system may keep flags in the first FAT alone."""
    start = -(-fat.FIRST_CLUSTER * fat.entry_bits(kind) // 8)
    if data[start:] == other[start:]:
        return None
    return next(at for at in range(start, len(data)) if data[at] != other[at])
