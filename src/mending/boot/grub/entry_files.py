"""Entries in files of their own that GRUB shows: what `blscfg` reads, as several families of
systems keep them.
"""

from mending.boot.chain import BootEnvironment, falling
from mending.disk.volume import Volume
from mending.formats.bootloader import boot_entry, grub_menu
from mending.formats.bootloader.boot_entry import BootEntry
from mending.formats.bootloader.grub_menu import CommandTree

FOLDERS = ("/loader/entries", "/boot/loader/entries")
"""Where they are looked for on GRUB's root."""


def entries_in(environment: BootEnvironment, volume: Volume, folder: str) -> list[BootEntry]:
    """The entries of one folder, newest first; none where it is not there. Raises
    OutOfReachError.
    """
    texts = [
        file.path for file in environment.listing(volume, folder) if file.path.endswith(".conf")
    ]
    found = [
        boot_entry.read(environment.read(volume, text), text.rpartition("/")[2]) for text in texts
    ]
    return sorted(found, key=lambda entry: falling(entry.id))


def commands_of(entry: BootEntry) -> CommandTree:
    """What GRUB runs for an entry; variables in its options are its own."""
    rows = [
        f"linux {entry.kernel} {entry.command_line}",
        *(f"initrd {initrd}" for initrd in entry.initrds),
    ]
    return grub_menu.read("\n".join(rows).encode()).tree
