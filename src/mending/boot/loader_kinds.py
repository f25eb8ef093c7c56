"""What a loader file is, told by what it carries, and the link behind it."""

from collections.abc import Callable

import msgspec

from mending.boot.efi_files import FALLBACK_FOLDER, efi_volumes
from mending.boot.entries_link import MARK, EntryLinks
from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.grub.menu import GrubLinks
from mending.boot.linux.mounts import options
from mending.boot.linux.start import LinuxLinks, LinuxStart, Part
from mending.boot.rungs import Link, Rung, failed, finding
from mending.boot.unified import read_unified, start_of
from mending.disk import Disk, FilesUnavailableError, Volume, open_files
from mending.formats import bzimage, grub_image, pe
from mending.model import Phase, PhaseState, Severity, Where, Window

_PLATFORM = "x86_64-efi"
_GENERATIONS, _SHIM = b".sbat", b"\nshim,"
"""The section in which signed loaders name themselves, and how shim does."""
_SHORT = {0x8664: "x64", 0x014C: "ia32", 0xAA64: "aa64"}
_MOST_LOADERS = 8
_KEPT = ("usr/lib/systemd/boot/efi/systemd-bootx64.efi", "usr/lib/grub/x86_64-efi/monolithic/grubx64.efi")
"""Where installed systems keep their boot managers."""


def behind_loader(grounds: Grounds, volume: Volume, path: str, words: str = "", seen: int = 0) -> Link:
    """The first link of what a sound loader file is; of an unknown one, that it is not read.

    Args:
        words: what a boot entry of the firmware hands to it.
        seen: how many loaders handed over already.
    """

    def link() -> Rung:
        try:
            data = grounds.read(volume, path)
            image = pe.read(Window(data)).record
            if pe.section(data, image, _GENERATIONS) is not None and _SHIM in data:
                return _behind_shim(grounds, volume, path, image.machine, seen)
            if MARK in data:
                return EntryLinks(grounds, volume).menu()
            unified = read_unified(grounds, volume, path)
        except ElsewhereError as error:
            return _unknown(path, f"{path} was not read: {error}")
        if unified is not None:
            return LinuxLinks(grounds, start_of(volume, unified)).kernel()
        if bzimage.is_kernel(data[: bzimage.HEAD_BYTES]):
            return LinuxLinks(grounds, _own_start(volume, path, words)).kernel()
        core = grub_image.read_image(data)
        if core is not None:
            return GrubLinks(grounds, core, _PLATFORM, volume, chained(grounds, seen)).files()
        return _unknown(path, "What the loader file does next is not read yet.")

    return link


def chained(grounds: Grounds, seen: int = 0) -> Callable[[Volume, str], Link]:
    """What lies behind a loader file that a menu hands over to."""
    return lambda volume, path: _checked_loader(grounds, volume, path, seen + 1, "A menu")


def _own_start(volume: Volume, path: str, words: str) -> LinuxStart:
    """A kernel that firmware starts by itself, with the words of its boot entry (`Documentation/admin-guide/efi-stub`).

    Its `initrd=` options are paths on the volume that it was loaded from, written with backslashes.
    """
    initrds = tuple(Part(volume, one.replace("\\", "/")) for one in options(words, "initrd"))
    return LinuxStart(Part(volume, path), initrds, words, Where(path=path), "The boot entry", as_program=True)


def _behind_shim(grounds: Grounds, volume: Volume, path: str, machine: int, seen: int) -> Rung:
    """Shim hands over to the loader beside it; in the fallback place, to the one that a list of entries names.

    Source: shim 15, `README.fallback` and `DEFAULT_LOADER`.
    """
    folder, short = path.rpartition("/")[0], _SHORT.get(machine, "x64")
    if folder.upper() == FALLBACK_FOLDER and grounds.find(volume, f"{folder}/fb{short}.efi") is not None:
        listed = _listed_loader(grounds, volume, f"BOOT{short.upper()}.CSV")
        if listed:
            return _checked_loader(grounds, volume, listed, seen + 1, "The list of entries beside shim")()
    return _checked_loader(grounds, volume, f"{folder}/grub{short}.efi", seen + 1, f"Shim ({path})")()


def _listed_loader(grounds: Grounds, volume: Volume, name: str) -> str:
    """The first loader that a list names, as a path; empty where there is no list."""
    top = grounds.find(volume, "EFI")
    folders = [one for one in grounds.files(volume).listing(top.path) if one.is_folder] if top is not None else []
    for folder in folders:
        text = grounds.read(volume, f"{folder.path}/{name}").decode("utf-16", errors="replace")
        first = text.splitlines()[0].split(",")[0].strip() if text.strip() else ""
        if first and folder.path.upper() != FALLBACK_FOLDER:
            return f"{folder.path}/{first}"
    return ""


def _checked_loader(grounds: Grounds, volume: Volume, path: str, seen: int, who: str) -> Link:
    """A second loader: there, whole, and what is behind it."""

    def link() -> Rung:
        phase, where = Phase.BOOT_MANAGER, Where(path=path)
        try:
            found = grounds.find(volume, path)
            data = grounds.read(volume, path) if found is not None else b""
        except ElsewhereError as error:
            return _unknown(path, f"{path} was not read: {error}")
        if found is None:
            says = f"{who} hands over to {path}, which is not on volume {volume.number}."
            return failed(finding("second-loader-missing", phase, Severity.FATAL, says, where))
        problems = pe.read(Window(data), found.bytes).problems
        if problems:
            says = (
                f"{who} hands over to {path}, which is damaged: {problems[0].found} instead of {problems[0].expected}."
            )
            return failed(finding("second-loader-damaged", phase, Severity.FATAL, says, where))
        if seen > _MOST_LOADERS:
            return _unknown(path, "The loaders hand over to each other in a circle.")
        says = f"{who} hands over to {path}, which is sound."
        then = behind_loader(grounds, volume, found.path, seen=seen)
        return Rung(phase=phase, state=PhaseState.PASSED, says=says, where=where, then=then)

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
    return (
        image is not None
        and GrubLinks(grounds, image, _PLATFORM, home, chained(grounds)).files().state is PhaseState.PASSED
    )
