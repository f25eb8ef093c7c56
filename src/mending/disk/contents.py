"""What each volume holds: its own account, its role by content, the systems on it, and what could not be looked at."""

import msgspec

from mending.disk.accounts import account
from mending.disk.files import FileFound, Files, FilesUnavailableError, open_files
from mending.disk.systems import InstalledSystem, systems_on
from mending.disk.volumes import Volume
from mending.model import Facts, VolumeState
from mending.model.limits import FOLDER_DEPTH
from mending.source import Source

_SLEEP_FILE = "hiberfil.sys"
_ASLEEP = {b"HIBR", b"hibr", b"RSTR", b"rstr"}
"""First bytes of that file while a system is hibernated or shut down in hybrid mode."""
_LOADERS = "bootmgr ldlinux.sys boot/ldlinux.sys syslinux/ldlinux.sys"
_MENUS = "grub/grub.cfg grub2/grub.cfg boot/grub/grub.cfg boot/grub2/grub.cfg grub/i386-pc loader/entries"
_MANAGER_FILES = (*_LOADERS.split(), *_MENUS.split())
"""What boot managers keep beside themselves; any of it makes a volume without a system a system partition."""
_IMAGE_ENDING = ".wim"
_IMAGE_MAGIC = b"WIM\0\0\0"
"""Bytes 2 to 7 of an image file that holds a whole small system."""
_FOLDERS = 64
"""Most folders looked into for such an image: a recovery volume holds under ten."""
_READABLE = {"fat12", "fat16", "fat32", "ntfs", "ext"}


class Contents(msgspec.Struct, frozen=True, kw_only=True):
    """One volume from the inside.

    Attributes:
        role: `system-partition system data recovery swap unknown`, by content alone.
        earlier: folders of installations that were moved aside; they are no systems.
        unread: why its files could not be looked at; empty where they were, or where it is not meant to hold any.
    """

    volume: Volume
    facts: Facts
    role: str
    systems: tuple[InstalledSystem, ...] = ()
    earlier: tuple[str, ...] = ()
    unread: str = ""


def contents_of(source: Source, volume: Volume) -> Contents:
    """Look into a volume; damage is said in the result, and nothing is raised but the loss of the whole source."""
    facts = account(source, volume)
    if volume.filesystem == "swap":
        return Contents(volume=volume, facts=facts, role="swap")
    systems: tuple[InstalledSystem, ...] = ()
    earlier: tuple[str, ...] = ()
    role, unread = "unknown", ""
    try:
        files = open_files(source, volume)
        if volume.filesystem == "ntfs" and _sleeps(files):  # asked first: damage elsewhere must not hide it
            facts = msgspec.structs.replace(facts, state=VolumeState.HIBERNATED)
        systems, earlier = systems_on(files, volume.number)
        role = "system" if systems else _role(files)
    except FilesUnavailableError as error:
        unread = error.says if volume.filesystem in _READABLE else ""
    return Contents(volume=volume, facts=facts, role=role, systems=systems, earlier=earlier, unread=unread)


def _sleeps(files: Files) -> bool:
    """Whether a system that is hibernated, or shut down in hybrid mode, owns this volume."""
    found = files.find(_SLEEP_FILE)
    return found is not None and files.read(found, 4) in _ASLEEP


def _role(files: Files) -> str:
    loader = next((one for one in _walk(files, files.find("EFI")) if one.path.lower().endswith(".efi")), None)
    image = any(_is_image(files, one) for one in _walk(files, FileFound("/", 0, True)))
    if image:
        return "recovery"
    if loader is not None or any(files.find(path) for path in _MANAGER_FILES):
        return "system-partition"
    return "data"


def _walk(files: Files, top: FileFound | None) -> list[FileFound]:
    """Files below a folder, as far as the limits go."""
    found, waiting, looked = [], [(top, 0)] if top is not None and top.is_folder else [], 0
    while waiting and looked < _FOLDERS:
        folder, depth = waiting.pop(0)
        looked += 1
        inside = files.listing(folder.path)
        found += [one for one in inside if not one.is_folder]
        waiting += [(one, depth + 1) for one in inside if one.is_folder and depth < FOLDER_DEPTH]
    return found


def _is_image(files: Files, one: FileFound) -> bool:
    return one.path.lower().endswith(_IMAGE_ENDING) and files.read(one, 8)[2:] == _IMAGE_MAGIC
