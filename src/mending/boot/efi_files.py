"""What UEFI firmware could load from a disk: volumes that it can read, and the loader files on them."""

from collections.abc import Callable

import msgspec

from mending.boot.volume_faults import fats_can_be_mended
from mending.disk import Disk, FileDamagedError, FileFound, Files, FilesUnavailableError, Volume, open_files
from mending.formats import pe
from mending.model import Problem, Window
from mending.model.limits import FOLDER_DEPTH, LOADER_BYTES, LOADER_FILES

FALLBACK_FOLDER = "/EFI/BOOT"
_FAT = {"fat12", "fat16", "fat32"}


class Loader(msgspec.Struct, frozen=True):
    """One loader file.

    Attributes:
        fallback: whether firmware finds it without a boot entry.
        problems: everything that keeps it from being loaded; offsets are in the file.
        repairs: what would make it whole.
    """

    path: str
    bytes: int
    fallback: bool
    problems: tuple[Problem, ...]
    repairs: tuple[str, ...] = ()

    @property
    def sound(self) -> bool:
        """Whether firmware would load it."""
        return not self.problems


class EfiVolume(msgspec.Struct, frozen=True):
    """A volume that firmware would look at. `unreadable` says why its files cannot be read; empty when they can."""

    volume: Volume
    loaders: tuple[Loader, ...]
    unreadable: str = ""

    @property
    def fallbacks(self) -> tuple[Loader, ...]:
        """Loaders that are found without a boot entry."""
        return tuple(one for one in self.loaders if one.fallback)


def efi_volumes(disk: Disk) -> list[EfiVolume]:
    """Volumes marked as EFI system partitions, then FAT volumes that hold a fallback loader all the same."""
    seen = [volume for volume in disk.volumes if not volume.passed_over]
    marked = [_look(disk, volume) for volume in seen if volume.efi]
    others = [_look(disk, one) for one in seen if not one.efi and one.filesystem in _FAT and one.boot.readable]
    return [*marked, *(one for one in others if one.fallbacks)]


def _look(disk: Disk, volume: Volume) -> EfiVolume:
    if volume.filesystem not in _FAT:
        return EfiVolume(volume, (), f"Volume {volume.number} holds no FAT file system that firmware could read.")
    try:
        files = open_files(disk.source, volume)
        return EfiVolume(volume, loaders_on(files, lambda: fats_can_be_mended(disk, volume)))
    except FilesUnavailableError as error:
        return EfiVolume(volume, (), error.says)


def loaders_on(files: Files, mendable: Callable[[], bool] = lambda: False) -> tuple[Loader, ...]:
    """The loader files of a volume.

    Args:
        mendable: asked for a file whose chain is broken: would another FAT mend it?

    Raises:
        FilesUnavailableError: damage hides a folder.
    """
    return tuple(_loader(files, one, mendable) for one in _loader_files(files, files.find("EFI"), 0)[:LOADER_FILES])


def _loader_files(files: Files, folder: FileFound | None, depth: int) -> list[FileFound]:
    if folder is None or not folder.is_folder or depth > FOLDER_DEPTH:
        return []
    inside = files.listing(folder.path)
    below = [one for sub in inside if sub.is_folder for one in _loader_files(files, sub, depth + 1)]
    return [one for one in inside if not one.is_folder and one.path.lower().endswith(".efi")] + below


def _loader(files: Files, found: FileFound, mendable: Callable[[], bool]) -> Loader:
    folder, _, name = found.path.rpartition("/")
    wanted = pe.FALLBACK_MACHINES.get(name.upper()) if folder.upper() == FALLBACK_FOLDER else None
    try:
        data = files.read(found)[:LOADER_BYTES]  # all of it, so that its whole chain is followed
    except FileDamagedError as error:
        broken = Problem("chain", 0, 0, error.says, "a chain as long as the file")
        repairs = ("fat-mirror",) if mendable() else ()
        return Loader(found.path, found.bytes, wanted is not None, (broken,), repairs)
    reading = pe.read(Window(data), found.bytes)
    problems = reading.problems
    if not problems and wanted is not None and reading.record.machine != wanted:
        problems = (Problem("machine", 0, 0, f"machine type {reading.record.machine:04x}", f"{wanted:04x} for {name}"),)
    return Loader(found.path, found.bytes, wanted is not None, problems)
