"""What lies at the start of a partition: the boot sector, its backup, and which of them is
sound.
"""

import contextlib
from collections.abc import Iterator

import msgspec

from mending.formats import arrays, exfat, ext, fat, fve, luks, ntfs, volume_heads
from mending.formats.fve import FveHead
from mending.formats.luks import LuksHead
from mending.model import (
    KINDS,
    ByteOffset,
    FilesystemKind,
    InputError,
    KindRow,
    Lba,
    Problem,
    ReadError,
    Reading,
    SectorCount,
    Window,
    crc32c,
    hex_preview,
)
from mending.source import Source

# Copies of superblocks of XFS and Btrfs, for volumes whose first one is lost.
#
# XFS keeps one at the start of each of its groups. How long a group is, only a superblock tells, so
# the places are tried that the usual programs choose: a volume cut in four, or in few other numbers
# of groups. Btrfs keeps copies at 64 MiB and 256 GiB.
#
# Sources: "XFS Algorithms & Data Structures", third edition, chapters "Allocation Groups" and
# "Superblocks"; the Btrfs on-disk format, "Superblock".


_BLOCK = 4096
_GROUPS = (4, 8, 16, 32, 2, 3)
_AROUND = 16
"""Blocks on either side of a place that are looked at: lengths are rounded."""
_SECTOR = 512
_ONES = 0xFFFF_FFFF
_BTRFS_COPIES = (64 << 20, 256 << 30)
_BTRFS_BYTES, _BTRFS_MAGIC_AT = 4096, 64


class SuperblockCopy(msgspec.Struct, frozen=True):
    """A sound copy.

    Attributes:
        place: bytes from the start of the volume to it. first: to where the lost one stands.
        data: all of it.
    """

    filesystem: FilesystemKind
    place: int
    first: int
    data: bytes

    @property
    def info(self) -> tuple[str, str]:
        """Identifier and label of the volume."""
        return names_in(self.filesystem, self.data)


def names_in(filesystem: FilesystemKind, data: bytes) -> tuple[str, str]:
    """Identifier and label that a superblock has."""
    start = volume_heads.BTRFS_OFFSET if filesystem is FilesystemKind.BTRFS else 0
    mark = volume_heads.recognise(Window(bytes(start) + data))
    return (mark.info.identifier, mark.info.label) if mark is not None else ("", "")


def superblock_copy(source: Source, offset: int, length: int) -> SuperblockCopy | None:
    """The first sound copy in a volume of so many bytes whose own superblock is lost; None where
    there is none.
    """
    return _xfs(source, offset, length) or _btrfs(source, offset, length)


def _xfs(source: Source, offset: int, length: int) -> SuperblockCopy | None:
    for place in _xfs_places(length):
        first = max(place - _AROUND * _BLOCK, _BLOCK)
        data = _read(source, offset + first, (2 * _AROUND + 1) * _BLOCK)
        for at in range(0, len(data) - _SECTOR + 1, _BLOCK):
            if data[at : at + 4] == b"XFSB" and _fits(data[at:], first + at, length):
                size = int.from_bytes(data[at + 102 : at + 104], "big")
                return SuperblockCopy(
                    FilesystemKind.XFS, first + at, 0, data[at : at + max(size, _SECTOR)]
                )
    return None


def _xfs_places(length: int) -> Iterator[int]:
    blocks = length // _BLOCK
    seen: set[int] = set()
    for groups in _GROUPS:
        place = -(-blocks // groups) * _BLOCK
        if place not in seen and _BLOCK < place < length:
            seen.add(place)
            yield place


def _fits(data: bytes, place: int, length: int) -> bool:
    """Whether a superblock is that of a volume of this length in which a group begins there."""
    size = int.from_bytes(data[4:8], "big")
    blocks, group = int.from_bytes(data[8:16], "big"), int.from_bytes(data[84:88], "big")
    sector = int.from_bytes(data[102:104], "big")
    if not size or not group or place % (group * size) or blocks * size > length:
        return False
    if int.from_bytes(data[100:102], "big") & 15 != 5 or not _SECTOR <= sector <= len(data):
        return False
    made = crc32c(data[:224] + bytes(4) + data[228:sector]) ^ _ONES
    return made == int.from_bytes(data[224:228], "little")


def _btrfs(source: Source, offset: int, length: int) -> SuperblockCopy | None:
    for place in _BTRFS_COPIES:
        if place + _BTRFS_BYTES > length:
            return None
        data = _read(source, offset + place, _BTRFS_BYTES)
        marked = data[_BTRFS_MAGIC_AT : _BTRFS_MAGIC_AT + 8] == b"_BHRfS_M"
        if not marked or int.from_bytes(data[48:56], "little") != place or any(data[196:198]):
            continue
        if crc32c(data[32:]) ^ _ONES == int.from_bytes(data[:4], "little"):
            first = volume_heads.BTRFS_OFFSET
            return SuperblockCopy(FilesystemKind.BTRFS, place, first, data)
    return None


def _read(source: Source, offset: int, length: int) -> bytes:
    try:
        return source.read(offset, length).data
    except InputError:
        return b""


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
) -> arrays.RaidMember | None:
    """What a volume says of the array that it is a member of; None where it is none.

    Args:
        at_end: whether also those count that stand at the end of the volume. One with a wrong
            checksum at the start is taken for what else begins there.
    """
    for metadata, at in arrays.raid_places(length):
        if metadata not in arrays.AT_START and not at_end:
            continue
        window = _try_read(source, ByteOffset(offset + at), arrays.RAID_SIZE)
        member = arrays.read_member(window, metadata, at) if window is not None else None
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
    seen = _try_read(source, offset, min(length, volume_heads.READ_BYTES)) or head
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
    marked = volume_heads.recognise(seen)
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


# A partition as a table lists it, with what its first sector shows.


DEFAULT_TOP = "*"


class Volume(msgspec.Struct, frozen=True, kw_only=True):
    """A partition as the table lists it, and what its first sectors show.

    Attributes:
        number: place in the table, from 1.
        entry_offset: where the table entry lies, in bytes from the start of the disk.
        passed_over: whether firmware ignores the entry because it lies outside or shares sectors
            with another.
        efi: whether the table calls it an EFI system partition.
        partlabel: the name of a GPT entry.
        partuuid: identifier of the entry, as Linux writes a PARTUUID; empty where there is none.
        mapped: what the kernel calls a logical volume; empty for partitions.
        mapped_id: identifiers of its group and of itself.
        array: identifier of the array that it is, or that it is a mirror's member of; empty for
            others.
        top: path of the subvolume that counts as the whole, where that is not the uppermost;
            `DEFAULT_TOP` for the one that is mounted where none is named.
        filesystem: by the backup boot sector where the first one is gone.
    """

    number: int
    start: Lba
    sectors: SectorCount
    offset: ByteOffset
    bytes: int
    type: str
    entry_offset: ByteOffset
    active: bool
    extended: bool
    filesystem: FilesystemKind
    label: str
    boot: BootSector
    efi: bool = False
    passed_over: bool = False
    partuuid: str = ""
    partlabel: str = ""
    mapped: str = ""
    mapped_id: str = ""
    array: str = ""
    top: str = ""

    @property
    def kind(self) -> KindRow:
        """What holds for every volume of its kind."""
        return KINDS[self.filesystem]

    @property
    def encrypted(self) -> bool:
        """Whether nothing but its first sector can be read without a key."""
        return self.kind.is_locked


# The head of a locked volume, wherever a sound copy of it is.


def luks_head(source: Source, volume: Volume) -> LuksHead | None:
    """The head of a LUKS volume, from its second copy where the first is damaged.

    Raises:
        ReadError
    """
    for place in (0, *luks.SECOND_PLACES):
        if place < volume.bytes:
            length = min(luks.MOST_HEAD, volume.bytes - place)
            head = luks.read_luks(source.read(volume.offset + place, length))
            if head is not None:
                return head
    return None


def fve_head(source: Source, volume: Volume) -> FveHead | None:
    """The head of an encrypted volume of the nt family, from the copy whose checksum holds; where
    that is so of none, from one that makes sense. None where no copy does.

    Raises:
        ReadError: the first sector cannot be read.
    """
    first = fve.read_first(source.read(volume.offset, fve.SECTOR_BYTES).data)
    if first is None:
        return None
    places, seen, fallback = list(first.blocks), set[int](), None
    while places:
        place = places.pop(0)
        if place in seen or not 0 < place < volume.bytes:
            continue
        seen.add(place)
        try:
            data = _block(source, volume, place)
        except ReadError:  # there are others
            continue
        places += fve.other_blocks(data) if len(seen) < len(first.blocks) + 1 else ()
        head = fve.read_block(data, first)
        if head is not None and fve.is_whole(data):
            return head
        fallback = fallback or head
    return fallback


def whole_fve_heads(source: Source, volume: Volume) -> int:
    """How many copies of the head that the first sector names have a checksum that holds.

    Raises:
        ReadError: the first sector cannot be read.
    """
    first = fve.read_first(source.read(volume.offset, fve.SECTOR_BYTES).data)
    whole = 0
    for place in first.blocks if first is not None else ():
        with contextlib.suppress(ReadError):
            inside = 0 < place < volume.bytes
            whole += inside and fve.is_whole(_block(source, volume, place))
    return whole


def _block(source: Source, volume: Volume, place: int) -> bytes:
    start, left = volume.offset + place, volume.bytes - place
    size = fve.block_bytes(source.read(start, min(fve.SECTOR_BYTES, left)).data)
    return source.read(start, min(size, left)).data
