"""The two FATs of a volume: do they agree, and if not, with which of them do folders and files hang
together?

Drivers write both and read the first, so a difference means that something went wrong in between,
and nothing in the tables says where. What tells is the use of them: every folder is walked by each
table, and counted is what cannot be (chains that run into free clusters, into each other, in
circles, or are shorter than the file) and what is in use and belongs to nothing. The table with
which everything hangs together is the right one; where both fit alike, or neither does, it is said
that it cannot be told.
"""

from collections.abc import Iterator, Sequence

import msgspec

from mending.disk.fat.reader import FOLDER_BYTES
from mending.formats.filesystem import fat, fat_tables
from mending.model import ByteOffset, FilesystemKind, ReadError
from mending.model.limits import FOLDER_ROWS, TABLE_BYTES
from mending.source import Source


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
    needed = (volume.clusters + fat_tables.FIRST_CLUSTER) * fat_tables.entry_bits(volume.kind)
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
    walk = _Walk(source, volume, fat_tables.entries(copy.data, volume.kind))
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
        self._owned = bytearray(min(volume.clusters + fat_tables.FIRST_CLUSTER, len(table)))
        self._rows = 0
        self.faults, self.first, self.complete = 0, "", True

    def run(self) -> None:
        """Walk from the root down."""
        waiting = [("the root folder", self._root())]
        while waiting:
            name, data = waiting.pop()
            for row in fat_tables.rows(data, self._volume.kind):
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
        kind, last = self._volume.kind, self._volume.clusters + fat_tables.FIRST_CLUSTER
        bad = fat_tables.WIDTHS[kind].bad
        table = self._table[fat_tables.FIRST_CLUSTER : last]
        owned = self._owned[fat_tables.FIRST_CLUSTER :]
        return sum(
            1
            for entry, owner in zip(table, owned, strict=False)
            if entry and entry != bad and not owner
        )

    def _root(self) -> bytes:
        start, length = self._volume.fixed_root
        if fat_tables.WIDTHS[self._volume.kind].fixed_root:
            return self._source.read(self._volume.offset + start, length).data
        return b"".join(self._read(self._chain("the root folder", self._volume.root_cluster)[0]))

    def _file(self, row: fat_tables.DirectoryEntry) -> list[int]:
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
        clusters, why = fat_tables.chain(
            self._table, first, self._volume.kind, self._volume.clusters
        )
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
    start = -(-fat_tables.FIRST_CLUSTER * fat_tables.entry_bits(kind) // 8)
    if data[start:] == other[start:]:
        return None
    return next(at for at in range(start, len(data)) if data[at] != other[at])
