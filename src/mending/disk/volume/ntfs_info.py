"""What an NTFS volume says of itself in its first file records: name, state, use, and whether the
mirror agrees.
"""

import msgspec

from mending.disk.volume.volume import Volume
from mending.formats.filesystem import ntfs, ntfs_records
from mending.formats.filesystem.ntfs_records import BITMAP, DATA, LOG, MIRRORED, VOLUME, FileRecord
from mending.model import ByteOffset, InputError, Problem, Reading, VolumeInfo, VolumeState, Window
from mending.model.limits import BITMAP_BYTES
from mending.source import Source

_LOG_PAGE = 4096
_RECORD_SIZES = range(512, 65_537)


def read_ntfs_info(source: Source, volume: ntfs.NtfsVolume) -> VolumeInfo:
    """Read the head of the file table. Args: volume: from a sound boot sector."""
    table = _Table(source, volume)
    about = table.best(VOLUME)
    unchecked = (
        ()
        if about
        else ("The name and the state cannot be read: both copies of their record are damaged.",)
    )
    return VolumeInfo(
        bytes=volume.sectors * volume.fields.bytes_per_sector,
        label=about.label if about else "",
        identifier=f"{volume.fields.serial:016X}",
        used=table.used(),
        state=_state(about, table.log_closed()),
        problems=tuple(table.problems()),
        unchecked=unchecked,
    )


class FirstRecord(msgspec.Struct, frozen=True):
    """One copy of one of the first records.

    Attributes:
        sound: whether it can be read as a record.
        stable: what of it the two copies have alike; empty where it is not sound.
    """

    offset: ByteOffset
    data: bytes
    sound: bool
    stable: object


def file_table_records(source: Source, volume: Volume) -> list[list[FirstRecord]]:
    """The first records of the file table, each with its mirror behind it.

    Raises:
        InputError: a place cannot be read.
    """
    table = _Table(source, ntfs.read(source.read(volume.offset, ntfs.SIZE)).record)
    return [[table.copy_of(copy, number) for copy in (0, 1)] for number in range(MIRRORED)]


def _state(about: FileRecord | None, log_closed: bool | None) -> VolumeState:
    dirty = about.dirty if about else None
    if dirty or log_closed is False:
        return VolumeState.DIRTY
    return VolumeState.CLEAN if dirty is False and log_closed else VolumeState.UNKNOWN


class _Table:
    """The first records of the file table and of its mirror."""

    def __init__(self, source: Source, volume: ntfs.NtfsVolume) -> None:
        self._source, self._volume = source, volume
        self._cluster = volume.cluster_sectors * volume.fields.bytes_per_sector
        self._size = volume.record_bytes
        fields = volume.fields
        self._starts = [
            volume.offset + number * self._cluster
            for number in (fields.mft_cluster, fields.mft_mirror_cluster)
        ]

    def best(self, number: int) -> FileRecord | None:
        """A record from the table, or from the mirror where that is the sound one; None where
        neither is.
        """
        readings = [self._record(copy, number) for copy in ((0, 1) if number < MIRRORED else (0,))]
        return next(
            (
                reading.record
                for reading in readings
                if reading is not None and not reading.problems
            ),
            None,
        )

    def problems(self) -> list[Problem]:
        """What is wrong with the mirrored records: one problem for each copy, and one where sound
        ones differ.
        """
        pairs = [(self._record(0, number), self._record(1, number)) for number in range(MIRRORED)]
        found = []
        for copy, code in enumerate(("table-damaged", "mirror-damaged")):
            bad = [number for number, pair in enumerate(pairs) if _damaged(pair[copy])]
            if bad:
                found.append(self._problem(code, copy, bad, "not readable as file records"))
        unlike = [number for number, pair in enumerate(pairs) if _unlike(*pair)]
        if unlike:
            found.append(self._problem("records-differ", 0, unlike, "unlike the mirror's"))
        return found

    def _problem(self, code: str, copy: int, numbers: list[int], found: str) -> Problem:
        which = ", ".join(map(str, numbers))
        length = self._size * (numbers[-1] - numbers[0] + 1)
        return Problem(
            code,
            self._place(copy, numbers[0]),
            length,
            f"records {which} are {found}",
            "sound records",
        )

    def copy_of(self, copy: int, number: int) -> FirstRecord:
        """A record of the table (0) or of its mirror (1)."""
        at = self._place(copy, number)
        reading = self._record(copy, number)
        sound = reading is not None and not reading.problems
        stable = reading.record.stable if reading is not None and sound else ()
        return FirstRecord(at, self._source.read(at, self._size).data, sound, stable)

    def used(self) -> int | None:
        """Bytes in use by the bitmap of clusters; None where that is damaged or long."""
        bitmap = self._value(BITMAP, BITMAP_BYTES)
        clusters = (
            self._volume.sectors * self._volume.fields.bytes_per_sector // max(self._cluster, 1)
        )
        if bitmap is None or len(bitmap) * 8 < clusters:
            return None
        marks = int.from_bytes(bitmap, "little") & (1 << clusters) - 1
        return marks.bit_count() * self._cluster

    def log_closed(self) -> bool | None:
        """Whether the log holds nothing to replay."""
        page = self._value(LOG, _LOG_PAGE, whole=False)
        return ntfs_records.log_is_closed(page) if page else None

    def _value(self, number: int, limit: int, whole: bool = True) -> bytes | None:
        """The data of a system file, at most `limit` bytes; None where it cannot be read, or is
        longer than that.
        """
        record = self.best(number)
        data = record.attribute(DATA) if record else None
        if data is None or (whole and data.bytes > limit):
            return None
        if data.value is not None:
            return data.value
        wanted, parts = min(data.bytes, limit), []
        try:
            for cluster, count in data.runs:
                length = min(count * self._cluster, wanted)
                at = self._volume.offset + (cluster or 0) * self._cluster
                parts.append(
                    self._source.read(at, length).data if cluster is not None else bytes(length)
                )
                wanted -= length
        except InputError:
            return None
        return b"".join(parts)

    def _record(self, copy: int, number: int) -> Reading[FileRecord] | None:
        if self._size not in _RECORD_SIZES:
            return None
        try:
            window: Window = self._source.read(self._place(copy, number), self._size)
            return ntfs_records.read(window)
        except InputError:
            return None

    def _place(self, copy: int, number: int) -> ByteOffset:
        return ByteOffset(self._starts[copy] + number * self._size)


def _damaged(reading: Reading[FileRecord] | None) -> bool:
    return reading is None or bool(reading.problems)


def _unlike(reading: Reading[FileRecord] | None, other: Reading[FileRecord] | None) -> bool:
    if reading is None or other is None or reading.problems or other.problems:
        return False
    return reading.record.stable != other.record.stable
