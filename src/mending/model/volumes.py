"""What a file system or container says of itself, in terms that all kinds share."""

import stat
from collections.abc import Mapping
from enum import StrEnum

import msgspec

from mending.model.findings import Problem


class VolumeState(StrEnum):
    """How a volume was left.

    `dirty`: not closed properly, or with a journal or log that is not replayed; `hibernated`: a
    sleeping system owns it; `unknown`: the format does not tell, or it was not read.
    """

    CLEAN = "clean"
    DIRTY = "dirty"
    HIBERNATED = "hibernated"
    UNKNOWN = "unknown"


class Moment(msgspec.Struct, frozen=True):
    """An earlier state of a volume that a shadow copy keeps: its number there, RFC 3339."""

    number: int
    at: str


class VolumeInfo(msgspec.Struct, frozen=True, kw_only=True):
    """One volume's own account of itself.

    Attributes:
        bytes: the length it believes to have; 0 where it does not tell.
        identifier: UUID or serial number in the usual way of writing; empty where there is none.
        group: the volume group that it is part of.
        physical: identifiers of the physical volumes of that group.
        logical: names, as below `/dev/mapper`, of the volumes inside that group.
        contained: volumes inside a container, each with its role where it has one.
        locks: ways into a locked volume, as its head tells them.
        moments: those that its shadow copies keep, the oldest first.
        darwin: name of the one that holds a system of the darwin family; empty where none does.
        used: bytes in use; None where that is not cheap to know.
        problems: what is wrong behind the first sector.
        unchecked: what could not be checked and why, one sentence each.
    """

    bytes: int = 0
    label: str = ""
    identifier: str = ""
    group: str = ""
    physical: tuple[str, ...] = ()
    logical: tuple[str, ...] = ()
    contained: tuple[str, ...] = ()
    locks: tuple[str, ...] = ()
    moments: tuple[Moment, ...] = ()
    darwin: str = ""
    used: int | None = None
    state: VolumeState = VolumeState.UNKNOWN
    problems: tuple[Problem, ...] = ()
    unchecked: tuple[str, ...] = ()


# One row for each kind of file system or container: everything that the rooms have to know of it.
#
# How a kind is recognised stands with its format (`formats`); what it says of itself is
# read in `disk.volume`. What a new kind needs, beside those two, is one row here.


class FilesystemKind(StrEnum):
    """What lies in a volume, as documents write it."""

    FAT12 = "fat12"
    FAT16 = "fat16"
    FAT32 = "fat32"
    EXFAT = "exfat"
    NTFS = "ntfs"
    EXT = "ext"
    XFS = "xfs"
    BTRFS = "btrfs"
    APFS = "apfs"
    HFS_PLUS = "hfs+"
    ISO9660 = "iso9660"
    SWAP = "swap"
    LVM = "lvm"
    RAID = "raid"
    """A member of an array of Linux's software RAID."""
    LUKS = "luks"
    ENCRYPTED = "encrypted"
    BCACHE = "bcache"
    BCACHEFS = "bcachefs"
    CRAMFS = "cramfs"
    EROFS = "erofs"
    EXT_JOURNAL = "ext-journal"
    F2FS = "f2fs"
    GFS2 = "gfs2"
    HFS = "hfs"
    JFS = "jfs"
    NILFS2 = "nilfs2"
    OCFS2 = "ocfs2"
    REISERFS = "reiserfs"
    REISER4 = "reiser4"
    ROMFS = "romfs"
    SQUASHFS = "squashfs"
    UBIFS = "ubifs"
    UDF = "udf"
    UFS = "ufs"
    ZFS = "zfs"
    FOLDER = "folder"
    """A volume of a mounted tree: its files are seen, its own structures are not."""
    MEMORY_DISK = "memory-disk"
    """A small file system that a boot manager's image carries inside itself."""
    UNKNOWN = "unknown"
    BLANK = "blank"
    UNREADABLE = "unreadable"


class KindRow(msgspec.Struct, frozen=True, kw_only=True):
    """What holds for every volume of a kind.

    Attributes:
        is_readable: whether files inside can be read here at all.
        is_fat: one of the three kinds that firmware reads, too.
        is_caseless: whether names of files are found in any case.
        is_recognised: whether something is known to lie there.
        is_locked: nothing behind the first sector can be read without a key.
        hides_names: it may hold volumes or systems of any name that are not seen from outside.
        mounted_by_identifier: a Linux system mounts it by its own identifier, which must be unique.
        is_journaled: changes inside wait until a journal or log is replayed.
        first_structure: bytes from the start of the volume to the structure that it is known by.
        identifier: where its UUID or serial number stands: bytes from the start of the volume,
            and how many; no bytes where it has none.
        table_type: type byte of its entry in an MBR.
        guid_type: type of its entry in a GPT.
    """

    is_readable: bool = False
    is_fat: bool = False
    is_caseless: bool = False
    is_recognised: bool = True
    is_locked: bool = False
    hides_names: bool = False
    mounted_by_identifier: bool = False
    is_journaled: bool = False
    first_structure: int = 0
    identifier: tuple[int, int] = (0, 0)
    table_type: int = 0x83
    guid_type: str = "0fc63daf-8483-4772-8e79-3d69d8477de4"


_DATA = "ebd0a0a2-b9e5-4433-87c0-68b6b72699c7"
_SWAP = "0657fd6d-a4ab-43c4-84e5-0933c84b4f4f"
_LVM = "e6d6d379-f507-44c2-a23c-238f2a3df928"
_RAID = "a19d880f-05fc-4d3b-a006-743f0f84911e"
_HFS = "48465300-0000-11aa-aa11-00306543ecac"
_APFS = "7c3457ef-0000-11aa-aa11-00306543ecac"


def _fat(table_type: int, identifier_at: int) -> KindRow:
    return KindRow(
        identifier=(identifier_at, 4),
        is_readable=True,
        is_fat=True,
        is_caseless=True,
        table_type=table_type,
        guid_type=_DATA,
    )


NAMED_ONLY = (
    FilesystemKind.BCACHE,
    FilesystemKind.BCACHEFS,
    FilesystemKind.CRAMFS,
    FilesystemKind.EROFS,
    FilesystemKind.EXT_JOURNAL,
    FilesystemKind.F2FS,
    FilesystemKind.GFS2,
    FilesystemKind.HFS,
    FilesystemKind.JFS,
    FilesystemKind.NILFS2,
    FilesystemKind.OCFS2,
    FilesystemKind.REISERFS,
    FilesystemKind.REISER4,
    FilesystemKind.ROMFS,
    FilesystemKind.SQUASHFS,
    FilesystemKind.UBIFS,
    FilesystemKind.UDF,
    FilesystemKind.UFS,
    FilesystemKind.ZFS,
)
"""Kinds of which nothing more is read than the mark, and what they call themselves."""
KINDS: Mapping[FilesystemKind, KindRow] = {
    FilesystemKind.FAT12: _fat(0x01, 39),
    FilesystemKind.FAT16: _fat(0x0E, 39),
    FilesystemKind.FAT32: _fat(0x0C, 67),
    FilesystemKind.EXFAT: KindRow(identifier=(100, 4), table_type=0x07, guid_type=_DATA),
    FilesystemKind.NTFS: KindRow(
        identifier=(72, 8),
        is_readable=True,
        is_caseless=True,
        is_journaled=True,
        table_type=0x07,
        guid_type=_DATA,
    ),
    FilesystemKind.EXT: KindRow(
        is_readable=True,
        mounted_by_identifier=True,
        is_journaled=True,
        first_structure=1024,
        identifier=(1024 + 104, 16),
    ),
    FilesystemKind.XFS: KindRow(
        is_readable=True, identifier=(32, 16), mounted_by_identifier=True, is_journaled=True
    ),
    # members of one Btrfs share their identifier on purpose
    FilesystemKind.BTRFS: KindRow(
        is_readable=True,
        is_journaled=True,
        first_structure=65_536,
        identifier=(65_536 + 32, 16),
    ),
    FilesystemKind.APFS: KindRow(identifier=(72, 16), table_type=0xAF, guid_type=_APFS),
    FilesystemKind.HFS_PLUS: KindRow(
        is_journaled=True,
        first_structure=1024,
        identifier=(1024 + 104, 8),
        table_type=0xAF,
        guid_type=_HFS,
    ),
    FilesystemKind.ISO9660: KindRow(first_structure=32_768),
    FilesystemKind.SWAP: KindRow(
        identifier=(1036, 16), mounted_by_identifier=True, table_type=0x82, guid_type=_SWAP
    ),
    FilesystemKind.LVM: KindRow(
        hides_names=True, first_structure=512, table_type=0x8E, guid_type=_LVM
    ),
    FilesystemKind.RAID: KindRow(hides_names=True, table_type=0xFD, guid_type=_RAID),
    FilesystemKind.LUKS: KindRow(
        identifier=(168, 36), is_locked=True, hides_names=True, mounted_by_identifier=True
    ),
    FilesystemKind.ENCRYPTED: KindRow(
        is_locked=True, hides_names=True, table_type=0x07, guid_type=_DATA
    ),
    **{kind: KindRow() for kind in NAMED_ONLY},
    FilesystemKind.FOLDER: KindRow(is_readable=True),
    FilesystemKind.MEMORY_DISK: KindRow(is_readable=True),
    FilesystemKind.UNKNOWN: KindRow(is_recognised=False),
    FilesystemKind.BLANK: KindRow(is_recognised=False),
    FilesystemKind.UNREADABLE: KindRow(is_recognised=False, hides_names=True),
}


# What volumes made of inodes have in common: a name in a folder, and what an inode is.


_FOLDER, _LINK = 2, 7
"""Kinds as ext and XFS write them, as Linux numbers the types of directory entries' files."""


class FolderName(msgspec.Struct, frozen=True):
    """A name and what it stands for.

    Attributes:
        inode: number of the inode.
        kind: 2 folder, 7 link; 0 where the volume does not keep kinds.
    """

    inode: int
    name: bytes
    kind: int

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder, as far as the name's row tells."""
        return self.kind == _FOLDER

    @property
    def is_link(self) -> bool:
        """Whether it is a symbolic link, as far as the name's row tells."""
        return self.kind == _LINK


class FileKind:
    """What an inode is, by its mode, whose upper digits Linux and the file systems number alike."""

    __slots__ = ()

    @property
    def mode_bits(self) -> int:
        """Kind of file and permissions."""
        raise NotImplementedError

    @property
    def is_folder(self) -> bool:
        """Whether it is a folder."""
        return stat.S_ISDIR(self.mode_bits)

    @property
    def is_link(self) -> bool:
        """Whether it is a symbolic link."""
        return stat.S_ISLNK(self.mode_bits)

    @property
    def is_file(self) -> bool:
        """Whether it is a plain file."""
        return stat.S_ISREG(self.mode_bits)

    @property
    def permissions(self) -> int:
        """Permission bits."""
        return stat.S_IMODE(self.mode_bits)
