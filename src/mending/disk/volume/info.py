"""What each volume says of itself behind its first sector: one short reader for each kind of file
system.
"""

import uuid
from collections.abc import Callable, Iterator

import msgspec

from mending.disk.fat import read_fats, sound_one
from mending.disk.shadow import shadow_copies
from mending.disk.volume import ntfs_info
from mending.disk.volume.apfs_info import contained_volumes
from mending.disk.volume.boot_sectors import raid_member
from mending.disk.volume.locks import fve_head, luks_head
from mending.disk.volume.volume import Volume
from mending.disk.volume.xfs_state import xfs_state
from mending.formats.container import lvm
from mending.formats.filesystem import exfat, ext, fat, fat_tables, ntfs, signatures
from mending.model import (
    FilesystemKind,
    InputError,
    Moment,
    Problem,
    ReadError,
    VolumeInfo,
    VolumeState,
    Window,
    plain_time,
)
from mending.model.limits import WINDOW_BYTES
from mending.source import Source

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
    table = fat_tables.entries(good.data, shape.kind)
    used = len(table) - table.count(0) - fat_tables.FIRST_CLUSTER
    return msgspec.structs.replace(
        info,
        label=_fat_label(source, shape),
        used=max(used, 0) * shape.cluster_bytes if pair.whole else None,
        state=_fat_state(volume, fat_tables.closed_properly(table, shape.kind)),
        problems=problems,
        unchecked=() if pair.whole else ("Only the first part of its FATs was compared.",),
    )


def _fat_state(volume: Volume, closed: bool | None) -> VolumeState:
    flag = volume.boot.data[fat_tables.WIDTHS[volume.filesystem].dirty_at] & 1
    return VolumeState.DIRTY if flag or closed is False else VolumeState.CLEAN


def _fat_label(source: Source, shape: fat.FatVolume) -> str:
    start, length = shape.fixed_root
    if shape.kind == FilesystemKind.FAT32:
        start, length = shape.cluster_offset(shape.root_cluster), shape.cluster_bytes
    try:
        return fat_tables.volume_label(
            source.read(shape.offset + start, min(length, _ROOT_BYTES)).data
        )
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
    return msgspec.structs.replace(ntfs_info.read_ntfs_info(source, boot), moments=moments)


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
    mark = signatures.recognise(_head(source, volume))
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


def read_lvm_group(source: Source, volume: Volume) -> tuple[str, lvm.Group | None]:
    """The identifier of a physical volume, and the group that it describes.

    Raises:
        InputError: it cannot be read.
    """
    label = source.read(volume.offset + 512, lvm.LABEL_BYTES)
    for area in lvm.description_areas(label):
        head = source.read(volume.offset + area.offset, lvm.AREA_HEAD_BYTES)
        parts = lvm.text_parts(head, area)
        text = b"".join(
            source.read(volume.offset + part.offset, min(part.length, WINDOW_BYTES)).data
            for part in parts
        )
        group = lvm.read_group(text)
        if group is not None:
            return lvm.physical_id(label), group
    return lvm.physical_id(label), None


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
        return source.read(volume.offset, min(volume.bytes, signatures.READ_BYTES))
    except ReadError:
        return source.read(volume.offset, 4096)


_READERS: dict[FilesystemKind, Callable[[Source, Volume], VolumeInfo]] = {
    FilesystemKind.FAT12: _fat,
    FilesystemKind.FAT16: _fat,
    FilesystemKind.FAT32: _fat,
    FilesystemKind.EXFAT: _exfat,
    FilesystemKind.NTFS: _ntfs,
    FilesystemKind.EXT: _ext,
    **{row.filesystem: _marked for row in signatures.SIGNATURES},
    FilesystemKind.EXT_JOURNAL: _journal,
    FilesystemKind.LUKS: _locked,
    FilesystemKind.ENCRYPTED: _encrypted,
    FilesystemKind.XFS: _xfs,
    FilesystemKind.LVM: _group,
    FilesystemKind.RAID: _array_member,
    FilesystemKind.APFS: _container,
}
