"""What UEFI firmware could load from a disk: volumes that it can read, and the loader files on
them.
"""

from collections.abc import Callable

import msgspec

from mending.boot.chain import BootEnvironment
from mending.disk.files import FileDamagedError, FileFound, Files, FilesUnavailableError
from mending.disk.volume import Volume
from mending.formats.executable import pe
from mending.model import FilesystemKind, Problem, RepairId, Window
from mending.model.limits import FOLDER_DEPTH, LOADED_BYTES, LOADER_FILES

FALLBACK_FOLDER = "/EFI/BOOT"


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
    repairs: tuple[RepairId, ...] = ()

    @property
    def sound(self) -> bool:
        """Whether firmware would load it."""
        return not self.problems


class EfiVolume(msgspec.Struct, frozen=True):
    """A volume that firmware would look at. `unreadable` says why its files cannot be read; empty
    when they can.
    """

    volume: Volume
    loaders: tuple[Loader, ...]
    unreadable: str = ""

    @property
    def fallbacks(self) -> tuple[Loader, ...]:
        """Loaders that are found without a boot entry."""
        return tuple(loader for loader in self.loaders if loader.fallback)


def efi_volumes(environment: BootEnvironment) -> list[EfiVolume]:
    """Volumes marked as EFI system partitions, then FAT volumes that hold a fallback loader all the
    same.
    """
    seen = [volume for volume in environment.volumes if not volume.passed_over]
    marked = [_look(environment, volume) for volume in seen if volume.efi]
    others = [
        _look(environment, volume)
        for volume in seen
        if not volume.efi and volume.kind.is_fat and volume.boot.readable
    ]
    return [*marked, *(esp for esp in others if esp.fallbacks)]


def _look(environment: BootEnvironment, volume: Volume) -> EfiVolume:
    if not volume.kind.is_fat and volume.filesystem is not FilesystemKind.FOLDER:
        says = f"Volume {volume.number} holds no FAT file system that firmware could read."
        return EfiVolume(volume, (), says)
    try:
        files = environment.files(volume)
        loaders = loaders_on(files, lambda: environment.fats_can_be_mended(volume))
        return EfiVolume(volume, loaders)
    except FilesUnavailableError as error:
        return EfiVolume(volume, (), error.says)


def loaders_on(files: Files, mendable: Callable[[], bool] = lambda: False) -> tuple[Loader, ...]:
    """The loader files of a volume.

    Args:
        mendable: asked for a file whose chain is broken: would another FAT mend it?

    Raises:
        FilesUnavailableError: damage hides a folder.
    """
    return tuple(
        _loader(files, file, mendable)
        for file in _loader_files(files, files.find("EFI"), 0)[:LOADER_FILES]
    )


def _loader_files(files: Files, folder: FileFound | None, depth: int) -> list[FileFound]:
    if folder is None or not folder.is_folder or depth > FOLDER_DEPTH:
        return []
    inside = files.listing(folder.path)
    below = [
        file for sub in inside if sub.is_folder for file in _loader_files(files, sub, depth + 1)
    ]
    return [
        file for file in inside if not file.is_folder and file.path.lower().endswith(".efi")
    ] + below


def _loader(files: Files, found: FileFound, mendable: Callable[[], bool]) -> Loader:
    folder, _, name = found.path.rpartition("/")
    wanted = pe.FALLBACK_MACHINES.get(name.upper()) if folder.upper() == FALLBACK_FOLDER else None
    try:
        data = files.read(found, LOADED_BYTES)  # all of it, so that its whole chain is followed
    except FileDamagedError as error:
        broken = Problem("chain", 0, 0, error.says, "a chain as long as the file")
        repairs = (RepairId.FAT_MIRROR,) if mendable() else ()
        return Loader(found.path, found.bytes, wanted is not None, (broken,), repairs)
    reading = pe.read(Window(data), found.bytes)
    problems = reading.problems
    if not problems and wanted is not None and reading.record.machine != wanted:
        kind = f"machine type {reading.record.machine:04x}"
        problems = (Problem("machine", 0, 0, kind, f"{wanted:04x} for {name}"),)
    return Loader(found.path, found.bytes, wanted is not None, problems)
