"""A partition as a table lists it, with what its first sector shows."""

import msgspec

from mending.disk.volume.boot_sectors import BootSector
from mending.model import KINDS, ByteOffset, FilesystemKind, KindRow, Lba, SectorCount

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
