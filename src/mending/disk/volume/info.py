"""What each volume says of itself behind its first sector: one short reader for each kind of file
system.
"""

import uuid
from collections.abc import Callable, Iterator

import msgspec

from mending.disk.fat import read_fats, sound_one
from mending.disk.shadow import shadow_copies
from mending.disk.volume.boot_sectors import Volume, fve_head, luks_head, raid_member
from mending.formats import apfs, arrays, exfat, ext, fat, ntfs, volume_heads
from mending.formats import xfs as xfs
from mending.formats import xfs as xfs_log
from mending.formats.apfs import ContainedVolume, Container
from mending.formats.ntfs import BITMAP, DATA, LOG, MIRRORED, VOLUME, FileRecord
from mending.model import (
    ByteOffset,
    FilesystemKind,
    InputError,
    Moment,
    Problem,
    ReadError,
    Reading,
    VolumeInfo,
    VolumeState,
    Window,
    plain_time,
)
from mending.model.limits import BITMAP_BYTES, WINDOW_BYTES
from mending.source import Source

# What an NTFS volume says of itself in its first file records: name, state, use, and whether the
# mirror agrees.


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
        return ntfs.log_is_closed(page) if page else None

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
            return ntfs.read_record(window)
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


# What a container of the darwin family says of the volumes in it; their files are not read.


_COPY_BYTES = 4 * 1024 * 1024
"""Of copies of the superblock that are looked at; usual are some hundred of 4 KiB."""
_MOST_LEVELS = 8


def contained_volumes(source: Source, offset: int) -> tuple[ContainedVolume, ...]:
    """The volumes of a container by its newest superblock that is whole; what cannot be read is
    left out.
    """
    return _Container(source, offset).volumes()


class _Container:
    def __init__(self, source: Source, offset: int) -> None:
        self._source, self._offset, self._size = source, offset, apfs.LEAST_BLOCK

    def volumes(self) -> tuple[ContainedVolume, ...]:
        newest = self._newest()
        if newest is None:
            return ()
        root = apfs.map_root(self._block(newest.map))
        found = []
        for number in newest.volumes:
            block = self._look_up(root, number, newest.moment)
            volume = apfs.read_volume(self._block(block)) if block else None
            found += [volume] if volume is not None else []
        return tuple(found)

    def _newest(self) -> Container | None:
        """Block 0 keeps an old superblock; the newest is among the copies."""
        first = apfs.read_container(self._window(0, apfs.MOST_BLOCK))
        if first is None:
            return None
        self._size = first.block_bytes
        newest = first
        for number in range(min(first.copies, _COPY_BYTES // self._size)):
            later = apfs.read_container(self._block(first.first_of_copies + number))
            if later is not None and later.moment > newest.moment:
                newest = later
        return newest

    def _look_up(self, root: int, number: int, moment: int) -> int:
        """The block of an object at a moment: of its rows up to then the last one. 0: not found."""
        block = root
        for _ in range(_MOST_LEVELS):
            node = apfs.map_node(self._block(block)) if block else None
            if node is None:
                return 0
            before = [row for row in node.rows if row[:2] <= (number, moment)]
            if not before:
                return 0
            last = max(before)
            if node.is_leaf:
                return last[2] if last[0] == number else 0
            block = last[2]
        return 0

    def _block(self, number: int) -> Window:
        return self._window(number * self._size, self._size)

    def _window(self, at: int, length: int) -> Window:
        try:
            return self._source.read(self._offset + at, length)
        except InputError:
            return Window(b"", self._offset + at)


# Whether an XFS volume was closed, by the last record of its log.


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
    count = block.log_blocks * block.block_size // xfs_log.LOG_BLOCK
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


SOUND_FAT = "sound"
"""Value of a problem with two FATs: the number of the sound one, 0 where it cannot be told."""
_EXFAT_LABEL, _EXFAT_ROW = 0x83, 32
_ROOT_BYTES, _ROOT_CLUSTERS = 4096, 32


def read_volume_info(source: Source, volume: Volume) -> VolumeInfo:
    """What a volume says of itself; whatever cannot be read is said in `unchecked`, and nothing is
    raised.
    """
    read = _READERS.get(volume.filesystem)
    if read is None:
        return VolumeInfo()
    if not volume.boot.readable:
        return VolumeInfo(
            unchecked=("Its first sector is damaged, so nothing behind it was checked.",)
        )
    try:
        return read(source, volume)
    except InputError as error:
        return VolumeInfo(unchecked=(error.says,))


def fat_volume(source: Source, volume: Volume) -> fat.FatVolume:
    """The FAT boot sector of a volume.

    Raises:
        InputError
    """
    return fat.read(source.read(volume.offset, fat.SIZE)).record


def _fat(source: Source, volume: Volume) -> VolumeInfo:
    shape = fat_volume(source, volume)
    pair = read_fats(source, shape)
    info = VolumeInfo(
        bytes=shape.sectors * shape.fields.bytes_per_sector,
        label=shape.label,
        identifier=shape.identifier,
    )
    first = next((copy for copy in pair.copies if not copy.problem), None)
    problems = tuple(
        Problem("fat-unreadable", copy.offset, shape.fat_bytes, copy.problem, "a FAT")
        for copy in pair.copies
        if copy.problem
    )
    if first is None:
        return msgspec.structs.replace(info, problems=problems)
    good = first
    if pair.differ_at is not None:
        sound, why = sound_one(source, shape, pair)
        good = sound or first
        which = "which is sound cannot be told"
        if sound is not None:
            which = f"the {'first' if sound.number == 1 else 'second'} is sound"
        at = pair.copies[0].offset + pair.differ_at
        number = sound.number if sound is not None else 0
        problems += (
            Problem("fats-differ", at, 1, f"{which}: {why}", "two FATs alike", {SOUND_FAT: number}),
        )
    table = fat.entries(good.data, shape.kind)
    used = len(table) - table.count(0) - fat.FIRST_CLUSTER
    return msgspec.structs.replace(
        info,
        label=_fat_label(source, shape),
        used=max(used, 0) * shape.cluster_bytes if pair.whole else None,
        state=_fat_state(volume, fat.closed_properly(table, shape.kind)),
        problems=problems,
        unchecked=() if pair.whole else ("Only the first part of its FATs was compared.",),
    )


def _fat_state(volume: Volume, closed: bool | None) -> VolumeState:
    flag = volume.boot.data[fat.WIDTHS[volume.filesystem].dirty_at] & 1
    return VolumeState.DIRTY if flag or closed is False else VolumeState.CLEAN


def _fat_label(source: Source, shape: fat.FatVolume) -> str:
    start, length = shape.fixed_root
    if shape.kind == FilesystemKind.FAT32:
        start, length = shape.cluster_offset(shape.root_cluster), shape.cluster_bytes
    try:
        return fat.volume_label(source.read(shape.offset + start, min(length, _ROOT_BYTES)).data)
    except InputError:
        return ""


def _exfat(source: Source, volume: Volume) -> VolumeInfo:
    shape = exfat.read(source.read(volume.offset, exfat.SIZE)).record
    size, fields = shape.bytes_per_sector, shape.fields
    return VolumeInfo(
        bytes=shape.sectors * size,
        label=_exfat_label(b"".join(_exfat_root(source, volume, shape))),
        identifier=f"{fields.serial >> 16:04X}-{fields.serial & 0xFFFF:04X}",
        used=shape.sectors * size * fields.percent // 100 if fields.percent <= 100 else None,
        state=VolumeState.DIRTY if fields.flags & exfat.VOLUME_DIRTY else VolumeState.CLEAN,
    )


def _exfat_root(source: Source, volume: Volume, shape: exfat.ExfatVolume) -> Iterator[bytes]:
    """The first clusters of the root folder, by the FAT."""
    size, fields = shape.bytes_per_sector, shape.fields
    cluster, length = fields.root_cluster, size << fields.cluster_shift
    for _ in range(_ROOT_CLUSTERS):
        if not 2 <= cluster <= fields.clusters + 1:
            return
        at = (fields.heap_offset + (cluster - 2 << fields.cluster_shift)) * size
        yield source.read(volume.offset + at, min(length, _ROOT_BYTES)).data
        row = source.read(volume.offset + fields.fat_offset * size + 4 * cluster, 4).data
        cluster = int.from_bytes(row, "little")


def _exfat_label(rows: bytes) -> str:
    for at in range(0, len(rows) - _EXFAT_ROW + 1, _EXFAT_ROW):
        if rows[at] == _EXFAT_LABEL:
            return exfat.label(rows[at : at + _EXFAT_ROW])
    return ""


def _ntfs(source: Source, volume: Volume) -> VolumeInfo:
    boot = ntfs.read(source.read(volume.offset, ntfs.SIZE)).record
    entries = shadow_copies(source, volume.offset, volume.bytes).entries
    moments = tuple(Moment(entry.number, plain_time(entry.created)) for entry in entries)
    return msgspec.structs.replace(read_ntfs_info(source, boot), moments=moments)


def _ext(source: Source, volume: Volume) -> VolumeInfo:
    first = ext.read(source.read(volume.offset, ext.SUPERBLOCK_OFFSET + ext.SIZE))
    info = ext.volume_info(first.record)
    if (
        first.problems
    ):  # then its numbers are not to be counted with, and its copies may lie elsewhere
        return VolumeInfo(
            label=info.label, identifier=info.identifier, state=info.state, problems=first.problems
        )
    problems = []
    for place in ext.copies(first.record):
        copy = copy_at(source, volume, place)
        at = volume.offset + place
        if copy is None:
            problems.append(
                Problem("copy-damaged", at, ext.SIZE, "no sound superblock", "a copy of the first")
            )
        elif copy.identity != first.record.identity:
            problems.append(
                Problem("copy-differs", at, ext.SIZE, "another volume's", "a copy of the first")
            )
        break  # the first copy is what a rescue would take; the others are asked when it is damaged
    if first.record.state & ext.STATE_ERRORS:
        at, width = ext.SUPERBLOCK.span("state", volume.offset + ext.SUPERBLOCK_OFFSET)
        problems.append(
            Problem("errors-recorded", at, width, "errors recorded by the running system", "none")
        )
    return msgspec.structs.replace(info, problems=tuple(problems))


def _journal(source: Source, volume: Volume) -> VolumeInfo:
    """A journal that stands apart, which has a superblock for its names."""
    return ext.volume_info(
        ext.read(source.read(volume.offset, ext.SUPERBLOCK_OFFSET + ext.SIZE)).record
    )


def copy_at(source: Source, volume: Volume, place: int) -> ext.Superblock | None:
    """The sound copy of a superblock at `place` bytes into an ext volume; None where there is
    none.
    """
    try:
        reading = ext.read(source.read(volume.offset + place, ext.SIZE), 0)
    except InputError:
        return None
    return reading.record if not reading.problems and reading.record.group else None


def _marked(source: Source, volume: Volume) -> VolumeInfo:
    mark = volume_heads.recognise(_head(source, volume))
    return mark.info if mark is not None else VolumeInfo()


def _xfs(source: Source, volume: Volume) -> VolumeInfo:
    return msgspec.structs.replace(_marked(source, volume), state=xfs_state(source, volume))


def _group(source: Source, volume: Volume) -> VolumeInfo:
    """A physical volume, with the names that the kernel gives to the logical ones of its group."""
    info = _marked(source, volume)
    _, group = read_lvm_group(source, volume)
    if group is None:
        return info
    names = tuple(mapped_name(group.name, logical.name) for logical in group.volumes)
    parts = tuple(physical.id for physical in group.physical)
    return msgspec.structs.replace(info, group=group.name, physical=parts, logical=names)


def read_lvm_group(source: Source, volume: Volume) -> tuple[str, arrays.Group | None]:
    """The identifier of a physical volume, and the group that it describes.

    Raises:
        InputError: it cannot be read.
    """
    label = source.read(volume.offset + 512, arrays.LABEL_BYTES)
    for area in arrays.description_areas(label):
        head = source.read(volume.offset + area.offset, arrays.AREA_HEAD_BYTES)
        parts = arrays.text_parts(head, area)
        text = b"".join(
            source.read(volume.offset + part.offset, min(part.length, WINDOW_BYTES)).data
            for part in parts
        )
        group = arrays.read_group(text)
        if group is not None:
            return arrays.physical_id(label), group
    return arrays.physical_id(label), None


def mapped_name(group: str, volume: str) -> str:
    """What a logical volume is called below `/dev/mapper`: a hyphen in a name is doubled there
    (lvm(8), "NAMES").
    """
    return f"{group.replace('-', '--')}-{volume.replace('-', '--')}"


def _container(source: Source, volume: Volume) -> VolumeInfo:
    """A container of the darwin family, with what it tells of its volumes."""
    info = _marked(source, volume)
    inside = contained_volumes(source, volume.offset)
    told = tuple(
        each.name
        + (f" ({each.role})" if each.role else "")
        + (", encrypted" if each.is_encrypted else "")
        for each in inside
    )
    darwin = next((each.name or "system" for each in inside if each.role == "system"), "")
    return msgspec.structs.replace(info, contained=told, darwin=darwin)


def _array_member(source: Source, volume: Volume) -> VolumeInfo:
    """A member of an array, with the array's name and identifier."""
    member = raid_member(source, volume.offset, volume.bytes)
    if member is None:
        return VolumeInfo()
    return VolumeInfo(label=member.name, identifier=str(uuid.UUID(hex=member.array)))


def _locked(source: Source, volume: Volume) -> VolumeInfo:
    """A LUKS volume, with the ways in that its head tells of."""
    info, head = _marked(source, volume), luks_head(source, volume)
    return info if head is None else msgspec.structs.replace(info, locks=head.says)


def _encrypted(source: Source, volume: Volume) -> VolumeInfo:
    """An encrypted volume of the nt family, with its state and the ways in."""
    head = fve_head(source, volume)
    if head is None:
        return VolumeInfo(unchecked=("It is encrypted, and all copies of its head are damaged.",))
    return VolumeInfo(identifier=head.identifier, locks=head.says)


def _head(source: Source, volume: Volume) -> Window:
    """As much of the start as the marks want; less where a sector of it cannot be read."""
    try:
        return source.read(volume.offset, min(volume.bytes, volume_heads.READ_BYTES))
    except ReadError:
        return source.read(volume.offset, 4096)


_READERS: dict[FilesystemKind, Callable[[Source, Volume], VolumeInfo]] = {
    FilesystemKind.FAT12: _fat,
    FilesystemKind.FAT16: _fat,
    FilesystemKind.FAT32: _fat,
    FilesystemKind.EXFAT: _exfat,
    FilesystemKind.NTFS: _ntfs,
    FilesystemKind.EXT: _ext,
    **{row.filesystem: _marked for row in volume_heads.SIGNATURES},
    FilesystemKind.EXT_JOURNAL: _journal,
    FilesystemKind.LUKS: _locked,
    FilesystemKind.ENCRYPTED: _encrypted,
    FilesystemKind.XFS: _xfs,
    FilesystemKind.LVM: _group,
    FilesystemKind.RAID: _array_member,
    FilesystemKind.APFS: _container,
}
