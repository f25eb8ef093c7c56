"""What lies at the start of a partition: the boot sector, its backup, and which of them is
sound.
"""

import msgspec

from mending.disk.volume.superblock_copies import superblock_copy
from mending.formats.container import md_raid
from mending.formats.encryption import fve
from mending.formats.filesystem import exfat, ext, fat, ntfs, signatures
from mending.model import (
    ByteOffset,
    FilesystemKind,
    Problem,
    ReadError,
    Reading,
    Window,
    hex_preview,
)
from mending.source import Source

_FAT32_BACKUP_SECTOR = 6
"""Where formatters put it; asked when the boot sector itself cannot tell."""
_FAT32_DIRTY_BYTE = 65
"""A running system keeps a flag here in the boot sector alone, so copies may differ in it."""


class Backup(msgspec.Struct, frozen=True):
    """The second copy of a boot sector; `length` is how many bytes of it belong together."""

    offset: ByteOffset
    sound: bool
    agrees: bool
    length: int = 512


READABLE_DAMAGE = {"signature-missing", "media-byte", "fat-too-short"}
"""Damage of a FAT boot sector that leaves every number right by which files are found; firmware
reads on, too.
"""


class BootSector(msgspec.Struct, frozen=True):
    """The first sector of a volume, in the terms that all kinds share.

    Attributes:
        sound: readable, of a known kind, with nothing wrong.
        hidden_sectors: how many sectors the volume believes to lie before it.
        sectors: length the volume believes to have, in its own sectors of `bytes_per_sector`.
        code: its boot code.
        backup: None for kinds that keep none, or where none was found.
        unread: why files cannot be found although this sector is sound: the superblock behind it is
            damaged.
    """

    offset: ByteOffset
    data: bytes
    sound: bool
    problems: tuple[Problem, ...] = ()
    hidden_sectors: int = 0
    sectors: int = 0
    bytes_per_sector: int = 0
    code: bytes = b""
    backup: Backup | None = None
    unread: str = ""

    @property
    def readable(self) -> bool:
        """Whether the files of the volume can be found."""
        if self.unread:
            return False
        return self.sound or (
            bool(self.bytes_per_sector)
            and {problem.code for problem in self.problems} <= READABLE_DAMAGE
        )


def look_at_start(
    source: Source, offset: ByteOffset, length: int
) -> tuple[FilesystemKind, str, BootSector]:
    """File system, label and boot sector of whatever starts at `offset`.

    Args:
        length: bytes of the partition, which is where the backup of NTFS is measured from.
    """
    try:
        head = source.read(offset, ext.SUPERBLOCK_OFFSET + ext.SIZE)
    except ReadError as error:
        problem = Problem("unreadable", error.offset, error.length, "a read error", "bytes")
        return FilesystemKind.UNREADABLE, "", BootSector(offset, b"", False, (problem,))
    member = raid_member(source, offset, length, at_end=False)
    if member is not None:
        return FilesystemKind.RAID, member.name, BootSector(offset, head.data[:512], True)
    if fve.read_first(head.data) is not None:
        return FilesystemKind.ENCRYPTED, "", BootSector(offset, head.data[:512], True)
    if ntfs.looks_like(head):
        return FilesystemKind.NTFS, "", _from_ntfs(source, ntfs.read(head), head, offset, length)
    if exfat.looks_like(head):
        return FilesystemKind.EXFAT, "", _from_exfat(source, head, offset)
    if fat.looks_like(head):
        return _from_fat(source, head, offset)
    if ext.looks_like(head) and ext.is_journal(head):
        return FilesystemKind.EXT_JOURNAL, "", BootSector(offset, head.data[:512], True)
    if ext.looks_like(head):
        return _from_ext(source, head, offset, length)
    found = _from_backup(source, head, offset, length)
    if found[0] in {FilesystemKind.UNKNOWN, FilesystemKind.BLANK}:
        member = raid_member(source, offset, length)
        if member is not None:
            return FilesystemKind.RAID, member.name, BootSector(offset, head.data[:512], True)
    return found


def raid_member(
    source: Source, offset: int, length: int, *, at_end: bool = True
) -> md_raid.RaidMember | None:
    """What a volume says of the array that it is a member of; None where it is none.

    Args:
        at_end: whether also those count that stand at the end of the volume. One with a wrong
            checksum at the start is taken for what else begins there.
    """
    for metadata, at in md_raid.places(length):
        if metadata not in md_raid.AT_START and not at_end:
            continue
        window = _try_read(source, ByteOffset(offset + at), md_raid.SIZE)
        member = md_raid.read_member(window, metadata, at) if window is not None else None
        if member is not None and not member.problems:
            return member
    return None


def _from_ntfs(
    source: Source, reading: Reading[ntfs.NtfsVolume], head: Window, offset: ByteOffset, length: int
) -> BootSector:
    fields = reading.record.fields
    size = max(fields.bytes_per_sector, 512)
    # behind the last sector that the volume counts, which is the end of the partition unless that
    # was made longer
    places = dict.fromkeys((offset + fields.sectors * size, offset + length - size))
    copies = [
        _backup(source, ByteOffset(place), head.data[:512], None)
        for place in places
        if place < offset + length
    ]
    backup = next(
        (copy for copy in copies if copy is not None and copy.sound), copies[-1] if copies else None
    )
    return BootSector(
        offset,
        head.data[:512],
        not reading.problems,
        reading.problems,
        fields.hidden_sectors,
        fields.sectors,
        fields.bytes_per_sector,
        fields.code,
        backup,
    )


def _from_fat(
    source: Source, head: Window, offset: ByteOffset
) -> tuple[FilesystemKind, str, BootSector]:
    reading = fat.read(head)
    volume, fields = reading.record, reading.record.fields
    at = volume.backup_sector
    backup = None
    if at is not None:
        place = ByteOffset(offset + at * fields.bytes_per_sector)
        backup = _backup(source, place, head.data[:512], _FAT32_DIRTY_BYTE)
    boot = BootSector(
        offset,
        head.data[:512],
        not reading.problems,
        reading.problems,
        fields.hidden_sectors,
        volume.sectors,
        fields.bytes_per_sector,
        volume.tail.code,
        backup,
    )
    return volume.kind, volume.label, boot


def _from_exfat(source: Source, head: Window, offset: ByteOffset) -> BootSector:
    size = exfat.read(head).record.bytes_per_sector or source.bytes_per_sector
    length = exfat.REGION_SECTORS * size
    first, second = (_try_read(source, ByteOffset(offset + at), length) for at in (0, length))
    reading = exfat.read(first or head)
    backup = Backup(ByteOffset(offset + length), False, False, length)
    if second is not None and exfat.looks_like(second):
        same = first is not None and _stable(first.data) == _stable(second.data)
        backup = Backup(backup.offset, not exfat.read(second).problems, same, length)
    fields = reading.record.fields
    return BootSector(
        offset,
        head.data[:512],
        not reading.problems,
        reading.problems,
        fields.partition_offset,
        fields.sectors,
        size,
        fields.code,
        backup,
    )


def _stable(region: bytes) -> bytes:
    """A boot region without the bytes that a running system changes in the first copy alone."""
    return bytes(0 if at in exfat.UNSUMMED else byte for at, byte in enumerate(region))


def _from_ext(
    source: Source, head: Window, offset: ByteOffset, length: int
) -> tuple[FilesystemKind, str, BootSector]:
    """The superblock counts with its checksum wrong, too: everything but a Linux kernel reads
    on.
    """
    reading = ext.read(head)
    fatal = [problem for problem in reading.problems if problem.code != ext.CHECKSUM]
    unread = "The first superblock is damaged." if fatal else ""
    data = head.data[:512]
    copy = first_superblock_backup(source, offset, length) if fatal else None
    name = reading.record.name if copy is None else copy.name
    return FilesystemKind.EXT, name, BootSector(offset, data, True, code=data, unread=unread)


def first_superblock_backup(
    source: Source, offset: ByteOffset, length: int
) -> ext.Superblock | None:
    """The sound copy of an ext superblock in group 1 of a volume of this length whose first one is
    lost.
    """
    for place in ext.first_copies():
        window = _try_read(source, ByteOffset(offset + place), ext.SIZE) if place < length else None
        if window is None:
            continue
        reading = ext.read(window, 0)
        block = reading.record
        if (
            not reading.problems
            and block.group == 1
            and next(ext.copies(block), 0) == place
            and block.bytes <= length
        ):
            return block
    return None


def _from_backup(
    source: Source, head: Window, offset: ByteOffset, length: int
) -> tuple[FilesystemKind, str, BootSector]:
    """The first copy tells nothing: perhaps the second one does."""
    data = head.data[:512]
    seen = _try_read(source, offset, min(length, signatures.READ_BYTES)) or head
    nothing = FilesystemKind.BLANK if seen.blank else FilesystemKind.UNKNOWN
    lost = (
        Problem(
            "not-a-boot-sector",
            offset,
            len(data),
            hex_preview(data),
            "the boot sector of a file system",
        ),
    )
    size = source.bytes_per_sector
    region = exfat.REGION_SECTORS * size
    whole = _try_read(source, ByteOffset(offset + region), region)
    if whole is not None and exfat.looks_like(whole) and not exfat.read(whole).problems:
        backup = Backup(ByteOffset(whole.offset), True, False, region)
        return FilesystemKind.EXFAT, "", BootSector(offset, data, False, lost, backup=backup)
    for place in (offset + _FAT32_BACKUP_SECTOR * size, offset + length - size):
        copy = _try_read(source, ByteOffset(place))
        if copy is None:
            continue
        if ntfs.looks_like(copy) and not ntfs.read(copy).problems and place > offset + length // 2:
            return (
                FilesystemKind.NTFS,
                "",
                BootSector(
                    offset, data, False, lost, backup=Backup(ByteOffset(place), True, False)
                ),
            )
        if (
            fat.looks_like(copy)
            and not fat.read(copy).problems
            and fat.read(copy).record.backup_sector
        ):
            volume = fat.read(copy).record
            backup = Backup(ByteOffset(place), True, False)
            return volume.kind, volume.label, BootSector(offset, data, False, lost, backup=backup)
    marked = signatures.recognise(seen)
    if marked is not None:
        return marked.filesystem, marked.info.label, BootSector(offset, data, True, code=data)
    copy_of = first_superblock_backup(source, offset, length)
    if copy_of is not None:
        return (
            FilesystemKind.EXT,
            copy_of.name,
            BootSector(offset, data, True, code=data, unread="The first superblock is gone."),
        )
    other = superblock_copy(source, offset, length)
    if other is not None:
        sector = BootSector(offset, data, True, code=data, unread="The first superblock is gone.")
        return other.filesystem, other.info[1], sector
    return nothing, "", BootSector(offset, data, False, lost)


def _backup(
    source: Source, place: ByteOffset, first: bytes, except_byte: int | None
) -> Backup | None:
    copy = _try_read(source, place)
    if copy is None or not (fat.looks_like(copy) or ntfs.looks_like(copy)):
        return Backup(place, False, False)
    problems = ntfs.read(copy).problems if ntfs.looks_like(copy) else fat.read(copy).problems
    first_copy, second_copy = bytearray(first), bytearray(copy.data[:512])
    if except_byte is not None:
        first_copy[except_byte] = second_copy[except_byte] = 0
    return Backup(place, not problems, first_copy == second_copy)


def _try_read(source: Source, place: ByteOffset, length: int = 512) -> Window | None:
    try:
        window = source.read(place, length)
    except ReadError:
        return None
    return window if len(window) == length else None
