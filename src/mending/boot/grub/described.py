"""Entries in files of their own that GRUB shows: what `blscfg` reads, as several families of systems keep them."""

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.versions import falling
from mending.disk import FilesUnavailableError, Volume
from mending.formats import boot_entry, grub_menu
from mending.formats.boot_entry import BootEntry
from mending.formats.grub_menu import Tree

FOLDERS = ("/loader/entries", "/boot/loader/entries")
"""Where they are looked for on GRUB's root."""


def entries_in(grounds: Grounds, volume: Volume, folder: str) -> list[BootEntry]:
    """The entries of one folder, newest first; none where it is not there. Raises ElsewhereError."""
    home = grounds.find(volume, folder)
    if home is None or not home.is_folder:
        return []
    try:
        inside = [one.path for one in grounds.files(volume).listing(home.path) if one.path.endswith(".conf")]
    except FilesUnavailableError as error:
        raise ElsewhereError(error.says) from error
    found = [boot_entry.read(grounds.read(volume, one), one.rpartition("/")[2]) for one in inside]
    return sorted(found, key=lambda one: falling(one.id))


def commands_of(entry: BootEntry) -> Tree:
    """What GRUB runs for an entry; variables in its options are its own."""
    rows = [f"linux {entry.kernel} {entry.words}", *(f"initrd {one}" for one in entry.initrds)]
    return grub_menu.read("\n".join(rows).encode()).tree
