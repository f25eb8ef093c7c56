"""A sound loader that could stand in the fallback place."""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError
from mending.boot.grub import GrubChecks
from mending.boot.nt import carried_store
from mending.boot.systemd_boot import MARK, EntryChecks
from mending.boot.uefi.loader_files import FALLBACK_FOLDER, efi_volumes
from mending.boot.uefi.loaders import PLATFORM, chained
from mending.disk.volume import Volume
from mending.formats.bootloader import grub_image
from mending.formats.executable import pe
from mending.knowledge.families import nt_names
from mending.model import PhaseState, Window
from mending.model.limits import LOADED_BYTES

_KEPT = (
    "usr/lib/systemd/boot/efi/systemd-bootx64.efi",
    "usr/lib/grub/x86_64-efi/monolithic/grubx64.efi",
)
"""Where installed systems keep their boot managers."""


class SpareLoader(msgspec.Struct, frozen=True):
    """A sound loader that could stand in the fallback place.

    Attributes:
        home: the EFI system partition that it would go to.
        volume: where it is now.
        machine: its machine type.
        own_path: where it goes beside the fallback place; empty where it needs no other.
    """

    home: Volume
    volume: Volume
    path: str
    machine: int
    data: bytes
    own_path: str = ""


def fallback_name(machine: int) -> str:
    """Where firmware of a machine type looks for the fallback loader."""
    name = next(name for name, number in pe.FALLBACK_MACHINES.items() if number == machine)
    return f"{FALLBACK_FOLDER}/{name}"


def spare_loader(environment: BootEnvironment) -> SpareLoader | None:
    """A boot manager that we know, on the EFI system partition itself or among the files of an
    installed system; None where there is none.
    """
    homes = [esp for esp in efi_volumes(environment) if not esp.unreadable]
    if not homes:
        return None
    home = homes[0]
    places = [
        (home.volume, loader.path)
        for loader in home.loaders
        if loader.sound and not loader.fallback
    ]
    others = [
        volume
        for volume in environment.volumes
        if volume.kind.is_readable and not volume.kind.is_fat
    ]
    places += [(volume, path) for path in _KEPT for volume in others]
    places += list(_kept_by_nt(environment))
    for volume, path in places:
        spare = _spare(environment, home.volume, volume, path)
        if spare is not None:
            return spare
    return None


def _kept_by_nt(environment: BootEnvironment) -> Iterator[tuple[Volume, str]]:
    """The managers that systems of the nt family keep in folders of their own."""
    for volume in environment.volumes:
        if volume.extended:
            continue
        for system in environment.contents(volume).systems:
            if system.family != "nt":
                continue
            folder = f"{system.title.rstrip('/')}/{nt_names().manager.efi_folder}"
            try:
                inside = environment.listing(volume, folder)
            except OutOfReachError:
                continue
            yield from (
                (volume, file.path)
                for file in inside
                if file.path.lower().endswith(".efi") and not file.is_folder
            )


def _spare(
    environment: BootEnvironment, home: Volume, volume: Volume, path: str
) -> SpareLoader | None:
    """The file, if it is whole and of a kind whose own files are found from the fallback place,
    too.
    """
    try:
        found = environment.find(volume, path)
        data = environment.read(volume, path, LOADED_BYTES) if found is not None else b""
    except OutOfReachError:
        return None
    if found is None or len(data) != found.bytes:
        return None
    reading = pe.read(Window(data))
    if reading.problems or reading.record.machine not in pe.FALLBACK_MACHINES.values():
        return None
    folder = carried_store(data).rpartition("/")[0] if volume != home else ""
    if not folder and not _finds_its_entries(environment, home, data):
        return None
    own_path = f"{folder}/{found.path.rpartition('/')[2]}" if folder else ""
    return SpareLoader(home, volume, found.path, reading.record.machine, data, own_path)


def _finds_its_entries(environment: BootEnvironment, home: Volume, data: bytes) -> bool:
    """Whether a boot manager that we know would come to its menu, loaded from the EFI system
    partition.
    """
    if MARK in data:
        return EntryChecks(environment, home).menu().state is PhaseState.PASSED
    image = grub_image.read_image(data)
    if image is None:
        return False
    path = f"{FALLBACK_FOLDER}/BOOTX64.EFI"
    checks = GrubChecks(environment, image, PLATFORM, home, chained(environment), path)
    return checks.files().state is PhaseState.PASSED
