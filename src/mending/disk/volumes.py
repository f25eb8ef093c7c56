"""A partition as a table lists it, with what its first sector shows."""

import msgspec

from mending.disk.boot_sectors import BootSector
from mending.model import ByteOffset, Lba, SectorCount


class Volume(msgspec.Struct, frozen=True, kw_only=True):
    """A partition as the table lists it, and what its first sectors show.

    Attributes:
        number: place in the table, from 1.
        entry_offset: where the table entry lies, in bytes from the start of the disk.
        passed_over: whether firmware ignores the entry because it lies outside or shares sectors with another.
        efi: whether the table calls it an EFI system partition.
        name: what a GPT calls it.
        partition: identifier of the entry, as Linux writes a PARTUUID; empty where there is none.
        filesystem: `fat12 fat16 fat32 exfat ntfs ext encrypted unknown blank unreadable` or a name of
            `formats.marks`; by the backup where the first copy is gone.
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
    filesystem: str
    label: str
    boot: BootSector
    efi: bool = False
    passed_over: bool = False
    partition: str = ""
    name: str = ""

    @property
    def encrypted(self) -> bool:
        """Whether nothing but its first sector can be read without a key."""
        return self.filesystem in {"encrypted", "luks"}
