"""What a loader file is, told by what it carries, and the link behind it."""

import msgspec

from mending.boot.efi_files import FALLBACK_FOLDER, efi_volumes
from mending.boot.entries_link import MARK, EntryLinks
from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.grub_menu_link import GrubLinks
from mending.boot.rungs import Link, Rung
from mending.disk import Disk, FilesUnavailableError, Volume, open_files
from mending.formats import grub_image, pe
from mending.model import Phase, PhaseState, Where, Window

_PLATFORM = "x86_64-efi"
_KEPT = ("usr/lib/systemd/boot/efi/systemd-bootx64.efi", "usr/lib/grub/x86_64-efi/monolithic/grubx64.efi")
"""Where installed systems keep their boot managers."""


def behind_loader(grounds: Grounds, volume: Volume, path: str) -> Link:
    """The first link of the boot manager that a sound loader file is; of an unknown one, that it is not read."""

    def link() -> Rung:
        try:
            data = grounds.read(volume, path)
        except ElsewhereError as error:
            return _unknown(path, f"{path} was not read: {error}")
        if MARK in data:
            return EntryLinks(grounds, volume).menu()
        image = grub_image.read_image(data)
        if image is not None:
            return GrubLinks(grounds, image, _PLATFORM, volume).files()
        return _unknown(path, "What the loader file does next is not read yet.")

    return link


def _unknown(path: str, says: str) -> Rung:
    return Rung(phase=Phase.BOOT_MANAGER, state=PhaseState.NOT_CHECKED, says=says, where=Where(path=path))


class SpareLoader(msgspec.Struct, frozen=True):
    """A sound loader that could stand in the fallback place.

    Attributes:
        home: the EFI system partition that it would go to.
        volume: where it is now.
        machine: its machine type.
    """

    home: Volume
    volume: Volume
    path: str
    machine: int
    data: bytes


def fallback_name(machine: int) -> str:
    """Where firmware of a machine type looks for the fallback loader."""
    name = next(name for name, number in pe.FALLBACK_MACHINES.items() if number == machine)
    return f"{FALLBACK_FOLDER}/{name}"


def spare_loader(disk: Disk) -> SpareLoader | None:
    """A boot manager that we know, on the EFI system partition itself or among the files of an installed system."""
    homes = [one for one in efi_volumes(disk) if not one.unreadable]
    if not homes:
        return None
    home = homes[0]
    places = [(home.volume, one.path) for one in home.loaders if one.sound and not one.fallback]
    places += [(volume, path) for path in _KEPT for volume in disk.volumes if volume.filesystem in {"ext", "ntfs"}]
    return next((one for volume, path in places if (one := _spare(disk, home.volume, volume, path))), None)


def _spare(disk: Disk, home: Volume, volume: Volume, path: str) -> SpareLoader | None:
    """The file, if it is whole and of a kind whose own files are found from the fallback place, too."""
    try:
        files = open_files(disk.source, volume)
        found = files.find(path)
        data = files.read(found) if found is not None else b""
    except FilesUnavailableError:
        return None
    if found is None or len(data) != found.bytes:
        return None
    reading = pe.read(Window(data))
    if reading.problems or reading.record.machine not in pe.FALLBACK_MACHINES.values():
        return None
    if not _finds_its_entries(disk, home, data):
        return None
    return SpareLoader(home, volume, found.path, reading.record.machine, data)


def _finds_its_entries(disk: Disk, home: Volume, data: bytes) -> bool:
    """Whether a boot manager that we know would come to its menu, loaded from the EFI system partition."""
    grounds = Grounds(disk)
    if MARK in data:
        return EntryLinks(grounds, home).menu().state is PhaseState.PASSED
    image = grub_image.read_image(data)
    return image is not None and GrubLinks(grounds, image, _PLATFORM, home).files().state is PhaseState.PASSED
