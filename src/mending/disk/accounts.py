"""What each volume says of itself behind its first sector: one short reader for each kind of file system."""

from collections.abc import Callable

import msgspec

from mending.disk import ntfs_account
from mending.disk.fat_copies import read_fats, sound_one
from mending.disk.volumes import Volume
from mending.formats import exfat, ext, fat, fat_tables, lvm, marks, ntfs
from mending.model import Facts, InputError, Problem, ReadError, VolumeState, Window
from mending.model.limits import WINDOW_BYTES
from mending.source import Source

_EXFAT_LABEL, _EXFAT_ROW = 0x83, 32
_DIRTY_AT = {"fat12": 37, "fat16": 37, "fat32": 65}
"""Byte of the boot sector in which a running system keeps its flag."""
_ROOT_BYTES = 4096


def account(source: Source, volume: Volume) -> Facts:
    """What a volume says of itself; whatever cannot be read is said in `unchecked`, and nothing is raised."""
    if volume.encrypted and volume.filesystem == "encrypted":
        return Facts(unchecked=("Encrypted: nothing behind the first sector can be read.",))
    read = _ACCOUNTS.get(volume.filesystem)
    if read is None:
        return Facts()
    if not volume.boot.readable:
        return Facts(unchecked=("Its first sector is damaged, so nothing behind it was checked.",))
    try:
        return read(source, volume)
    except InputError as error:
        return Facts(unchecked=(error.says,))


def fat_volume(source: Source, volume: Volume) -> fat.FatVolume:
    """The FAT boot sector of a volume. Raises InputError."""
    return fat.read(source.read(volume.offset, fat.SIZE)).record


def _fat(source: Source, volume: Volume) -> Facts:
    shape = fat_volume(source, volume)
    pair = read_fats(source, shape)
    facts = Facts(bytes=shape.sectors * shape.fields.bytes_per_sector, label=shape.label, identifier=shape.identifier)
    first = next((one for one in pair.copies if not one.problem), None)
    problems = tuple(
        Problem("fat-unreadable", one.offset, shape.fat_bytes, one.problem, "a FAT")
        for one in pair.copies
        if one.problem
    )
    if first is None:
        return msgspec.structs.replace(facts, problems=problems)
    good = first
    if pair.differ_at is not None:
        sound, why = sound_one(source, shape, pair)
        good = sound or first
        which = "which is sound cannot be told"
        if sound is not None:
            which = f"the {'first' if sound.number == 1 else 'second'} is sound"
        at = pair.copies[0].offset + pair.differ_at
        problems += (Problem("fats-differ", at, 1, f"{which}: {why}", "two FATs alike"),)
    table = fat_tables.entries(good.data, shape.kind)
    used = len(table) - table.count(0) - fat_tables.FIRST_CLUSTER
    return msgspec.structs.replace(
        facts,
        label=_fat_label(source, shape) or facts.label,
        used=max(used, 0) * shape.cluster_bytes if pair.whole else None,
        state=_fat_state(volume, fat_tables.closed_properly(table, shape.kind)),
        problems=problems,
        unchecked=() if pair.whole else ("Only the first part of its FATs was compared.",),
    )


def _fat_state(volume: Volume, closed: bool | None) -> VolumeState:
    flag = volume.boot.data[_DIRTY_AT[volume.filesystem]] & 1
    return VolumeState.DIRTY if flag or closed is False else VolumeState.CLEAN


def _fat_label(source: Source, shape: fat.FatVolume) -> str:
    start, length = shape.fixed_root
    if shape.kind == "fat32":
        start, length = shape.cluster_offset(shape.root_cluster), shape.cluster_bytes
    try:
        return fat_tables.volume_label(source.read(shape.offset + start, min(length, _ROOT_BYTES)).data)
    except InputError:
        return ""


def _exfat(source: Source, volume: Volume) -> Facts:
    shape = exfat.read(source.read(volume.offset, exfat.SIZE)).record
    size, fields = shape.bytes_per_sector, shape.fields
    root = (fields.heap_offset + (fields.root_cluster - 2 << fields.cluster_shift)) * size
    rows = source.read(volume.offset + root, _ROOT_BYTES).data
    return Facts(
        bytes=shape.sectors * size,
        label=_exfat_label(rows),
        identifier=f"{fields.serial >> 16:04X}-{fields.serial & 0xFFFF:04X}",
        used=shape.sectors * size * fields.percent // 100 if fields.percent <= 100 else None,
        state=VolumeState.DIRTY if fields.flags & exfat.VOLUME_DIRTY else VolumeState.CLEAN,
    )


def _exfat_label(rows: bytes) -> str:
    for at in range(0, len(rows) - _EXFAT_ROW + 1, _EXFAT_ROW):
        if rows[at] == _EXFAT_LABEL:
            return exfat.label(rows[at : at + _EXFAT_ROW])
    return ""


def _ntfs(source: Source, volume: Volume) -> Facts:
    return ntfs_account.account(source, ntfs.read(source.read(volume.offset, ntfs.SIZE)).record)


def _ext(source: Source, volume: Volume) -> Facts:
    first = ext.read(source.read(volume.offset, ext.SUPERBLOCK_OFFSET + ext.SIZE))
    facts = ext.facts(first.record)
    if first.problems:  # then its numbers are not to be counted with, and its copies may lie elsewhere
        return Facts(label=facts.label, identifier=facts.identifier, state=facts.state, problems=first.problems)
    problems = []
    for place in ext.copies(first.record):
        copy = copy_at(source, volume, place)
        at = volume.offset + place
        if copy is None:
            problems.append(Problem("copy-damaged", at, ext.SIZE, "no sound superblock", "a copy of the first"))
        elif copy.identity != first.record.identity:
            problems.append(Problem("copy-differs", at, ext.SIZE, "another volume's", "a copy of the first"))
        break  # the first copy is what a rescue would take; the others are asked when it is damaged
    if first.record.state & ext.STATE_ERRORS:
        at, width = ext.SUPERBLOCK.span("state", volume.offset + ext.SUPERBLOCK_OFFSET)
        problems.append(Problem("errors-recorded", at, width, "errors recorded by the running system", "none"))
    return msgspec.structs.replace(facts, problems=tuple(problems))


def copy_at(source: Source, volume: Volume, place: int) -> ext.Superblock | None:
    """The sound copy of a superblock at `place` bytes into an ext volume; None where there is none."""
    try:
        reading = ext.read(source.read(volume.offset + place, ext.SIZE), 0)
    except InputError:
        return None
    return reading.record if not reading.problems and reading.record.group else None


def _marked(source: Source, volume: Volume) -> Facts:
    mark = marks.recognise(_head(source, volume))
    return mark.facts if mark is not None else Facts()


def _group(source: Source, volume: Volume) -> Facts:
    """A physical volume, with the names that the kernel gives to the logical ones of its group."""
    facts = _marked(source, volume)
    label = source.read(volume.offset + 512, lvm.LABEL_BYTES)
    for area in lvm.description_areas(label):
        head = source.read(volume.offset + area.offset, lvm.AREA_HEAD_BYTES)
        parts = lvm.text_parts(head, area)
        text = b"".join(source.read(volume.offset + one.offset, min(one.length, WINDOW_BYTES)).data for one in parts)
        group = lvm.read_group(text)
        if group is not None:
            return msgspec.structs.replace(
                facts, group=group.name, logical=tuple(mapped_name(group.name, one) for one in group.volumes)
            )
    return facts


def mapped_name(group: str, volume: str) -> str:
    """What a logical volume is called below `/dev/mapper`: a hyphen in a name is doubled there (lvm(8), "NAMES")."""
    return f"{group.replace('-', '--')}-{volume.replace('-', '--')}"


def _head(source: Source, volume: Volume) -> Window:
    """As much of the start as the marks want; less where a sector of it cannot be read."""
    try:
        return source.read(volume.offset, min(volume.bytes, marks.READ_BYTES))
    except ReadError:
        return source.read(volume.offset, 4096)


_ACCOUNTS: dict[str, Callable[[Source, Volume], Facts]] = {
    "fat12": _fat,
    "fat16": _fat,
    "fat32": _fat,
    "exfat": _exfat,
    "ntfs": _ntfs,
    "ext": _ext,
    **{row.filesystem: _marked for row in marks.ROWS},
    "lvm": _group,
}
