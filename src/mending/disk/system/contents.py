"""What each volume holds: its own read_volume_info, its role by content, the systems on it, and
what could not be looked at.
"""

import msgspec

from mending.disk.files import FileFound, Files, FilesUnavailableError, open_files, possible_tops
from mending.disk.system.installed import InstalledSystem, systems_on
from mending.disk.volume import Volume, read_volume_info
from mending.model import FilesystemKind, VolumeInfo, VolumeState
from mending.model.limits import FOLDER_DEPTH
from mending.source import Source

_SLEEP_FILE = "hiberfil.sys"
_ASLEEP = {b"HIBR", b"hibr", b"RSTR", b"rstr"}
"""First bytes of that file while a system is hibernated or shut down in hybrid mode."""
_LOADERS = "bootmgr ldlinux.sys boot/ldlinux.sys syslinux/ldlinux.sys"
_MENUS = (
    "grub/grub.cfg grub2/grub.cfg boot/grub/grub.cfg boot/grub2/grub.cfg grub/i386-pc"
    " loader/entries"
)
_MANAGER_FILES = (*_LOADERS.split(), *_MENUS.split())
"""What boot managers keep beside themselves; any of it makes a volume without a system a system
partition.
"""
_IMAGE_ENDING = ".wim"
_IMAGE_MAGIC = b"WIM\0\0\0"
"""Bytes 2 to 7 of an image file that holds a whole small system."""
_FOLDERS = 64
"""Most folders looked into for such an image: a recovery volume holds under ten."""


class Contents(msgspec.Struct, frozen=True, kw_only=True):
    """One volume from the inside.

    Attributes:
        role: `system-partition system data recovery swap unknown`, by content alone.
        damaged: sentences on folders that cannot be read whole.
        top: path of the subvolume that holds the systems, as in `Volume`.
        earlier: folders of installations that were moved aside; they are no systems.
        unread: why its files could not be looked at; empty where they were, or where it is not
            meant to hold any.
    """

    volume: Volume
    info: VolumeInfo
    role: str
    systems: tuple[InstalledSystem, ...] = ()
    earlier: tuple[str, ...] = ()
    unread: str = ""
    damaged: tuple[str, ...] = ()
    top: str = ""


def read_contents(source: Source, volume: Volume) -> Contents:
    """Look into a volume; damage is said in the result, and nothing is raised but the loss of the
    whole source.
    """
    info = read_volume_info(source, volume)
    if volume.filesystem == FilesystemKind.SWAP:
        return Contents(volume=volume, info=info, role="swap")
    if info.darwin:
        system = InstalledSystem("darwin", volume.number, info.darwin)
        return Contents(volume=volume, info=info, role="system", systems=(system,))
    systems: tuple[InstalledSystem, ...] = ()
    earlier: tuple[str, ...] = ()
    damaged: tuple[str, ...] = ()
    role, unread, home = "unknown", "", volume.top
    try:
        files = open_files(source, volume)
        # asked first: damage elsewhere must not hide it
        if volume.filesystem == FilesystemKind.NTFS and _sleeps(files):
            info = msgspec.structs.replace(info, state=VolumeState.HIBERNATED)
        for top in possible_tops(source, volume):
            inside = msgspec.structs.replace(volume, top=top)
            found = systems_on(open_files(source, inside), volume.number)
            systems, earlier, damaged = found.systems, found.earlier, found.damaged
            if systems:
                home = top
                break
        role = "system" if systems else _role(files)
    except FilesUnavailableError as error:
        unread = error.says if volume.kind.is_readable else ""
    return Contents(
        volume=volume,
        info=info,
        role=role,
        systems=systems,
        earlier=earlier,
        unread=unread,
        damaged=damaged,
        top=home,
    )


def _sleeps(files: Files) -> bool:
    """Whether a system that is hibernated, or shut down in hybrid mode, owns this volume."""
    found = files.find(_SLEEP_FILE)
    return found is not None and files.read(found, 4) in _ASLEEP


def _role(files: Files) -> str:
    loader = next(
        (file for file in _walk(files, files.find("EFI")) if file.path.lower().endswith(".efi")),
        None,
    )
    image = any(_is_image(files, file) for file in _walk(files, FileFound("/", 0, True)))
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
        found += [file for file in inside if not file.is_folder]
        waiting += [(file, depth + 1) for file in inside if file.is_folder and depth < FOLDER_DEPTH]
    return found


def _is_image(files: Files, file: FileFound) -> bool:
    return file.path.lower().endswith(_IMAGE_ENDING) and files.read(file, 8)[2:] == _IMAGE_MAGIC
