"""The repair `boot-entries`: an entry for every sound kernel, in the form that the boot manager on
this disk reads.

Entry files for a manager that reads them; a small menu where GRUB is the manager. Entries that work
are never touched.
"""

from mending.boot.chain import OutOfReachError
from mending.boot.linux import KernelWithInitramfs, find_sound_kernels
from mending.boot.new_entry import WantedSystem, entry_home, is_plain, wanted_system_of
from mending.boot.uefi import efi_volumes, fallback_name, spare_loader, spare_second_loader
from mending.disk.fat import FatWriter
from mending.disk.files import FilesUnavailableError
from mending.disk.system import read_contents
from mending.disk.volume import Volume
from mending.model import Change, Finding, FindingId, InputError, Patch, RefusedError, RepairId
from mending.model.limits import LOADED_BYTES
from mending.repair.base import Proposal, Request, check_awake
from mending.repair.files import put_files
from mending.repair.nt import files_beside

BOOT_ENTRIES = RepairId.BOOT_ENTRIES
_FOR_MENU = (FindingId.GRUB_MENU_MISSING, FindingId.GRUB_MENU_EMPTY)
_ENTRIES = "loader/entries"


def propose_boot_entries(request: Request) -> Proposal:
    """Changes that add entries.

    Raises:
        RefusedError: no such finding, no sound kernel, no telling which system is meant, or no
            room.
    """
    present = request.calling_for(BOOT_ENTRIES)
    if not present:
        raise RefusedError(
            "The boot manager has an entry that can be shown.",
            "Entries that work are not replaced.",
        )
    wanted = wanted_system_of(request.environment)
    if wanted.volume.encrypted:
        raise RefusedError(
            "The root is encrypted; what unlocks it belongs in the entry.", "Write it by hand."
        )
    for_menu = [finding for finding in present if finding.id in _FOR_MENU]
    if for_menu:
        says, changes = _menu(request, wanted, for_menu[0])
    else:
        says, changes = _files(request, wanted)
    return Proposal(repair=BOOT_ENTRIES, says=says, changes=tuple(changes), answers=present)


def _files(request: Request, wanted: WantedSystem) -> tuple[str, list[Change]]:
    home = entry_home(request.environment)
    if home is None:
        raise RefusedError(
            "No boot manager that reads entry files was found.", "Mend its loader first."
        )
    kernels = _plain_kernels(request, home)
    copied: dict[str, bytes] = {}
    if not kernels:
        kernels, copied = _brought(request, wanted, home)
    files = dict(copied)
    for kernel in kernels:
        rows = [
            f"title {wanted.title}",
            f"version {kernel.version}",
            f"sort-key {wanted.key}",
            f"linux {kernel.path}",
        ]
        rows += [f"initrd {kernel.initrd}"] if kernel.initrd else []
        text = "\n".join([*rows, f"options {wanted.line(bool(kernel.initrd))}", ""])
        files[_free_name(request, home, f"{wanted.key}-{kernel.version}")] = text.encode()
    changes = put_files(
        request, home, files, f"boot entries and the tables of volume {home.number}"
    )
    what = f"; kernel and initramfs copied from volume {wanted.volume.number}" if copied else ""
    versions = ", ".join(kernel.version for kernel in kernels)
    return f"Writes entries for {versions} to /{_ENTRIES} on volume {home.number}{what}.", changes


def _brought(
    request: Request, wanted: WantedSystem, home: Volume
) -> tuple[list[KernelWithInitramfs], dict[str, bytes]]:
    """The newest kernel of the system itself, and the copies of it that the manager can reach."""
    own = [kernel for kernel in _plain_kernels(request, wanted.volume) if kernel.initrd]
    if not own:
        raise RefusedError("No sound kernel with its initramfs was found.", "Restore one first.")
    newest, folder = own[0], f"/{wanted.key}/{own[0].version}"
    files = {
        f"{folder}/linux": _whole(request, newest.volume, newest.path),
        f"{folder}/initrd": _whole(request, newest.volume, newest.initrd),
    }
    return [KernelWithInitramfs(home, f"{folder}/linux", newest.version, f"{folder}/initrd")], files


def _whole(request: Request, volume: Volume, path: str) -> bytes:
    try:
        return request.environment.read(volume, path, LOADED_BYTES)
    except (OutOfReachError, FilesUnavailableError) as error:
        raise RefusedError(f"{path} cannot be read to its end: {error}") from error


def _free_name(request: Request, home: Volume, stem: str) -> str:
    """A name that no entry has: one that is there, hidden or not, stays as it is."""
    names = [
        f"{_ENTRIES}/{stem}.conf",
        *(f"{_ENTRIES}/{stem}-{number}.conf" for number in range(2, 100)),
    ]
    return next(name for name in names if request.environment.find(home, name) is None)


def _menu(request: Request, wanted: WantedSystem, finding: Finding) -> tuple[str, list[Change]]:
    path = finding.where.path or ""
    home = _menu_home(request, path)
    volumes = [home, wanted.volume] if home != wanted.volume else [home]
    kernels = [kernel for volume in volumes for kernel in _plain_kernels(request, volume)]
    if not kernels:
        raise RefusedError("No sound kernel was found for a menu.", "Restore one first.")
    text = "\n".join(
        [
            "set timeout=3",
            "set default=0",
            *(_menu_entry(request, wanted, kernel) for kernel in kernels),
            "",
        ]
    )
    found = request.environment.find(home, path)
    data = text.encode()
    if found is not None and home.kind.is_journaled:
        data = data.ljust(found.bytes, b"\n")  # a file that keeps its length keeps its blocks
    changes = put_files(
        request,
        home,
        {found.path if found is not None else path: data},
        f"GRUB's menu {path}",
    )
    versions = ", ".join(kernel.version for kernel in kernels)
    return f"Writes a menu for {versions} to {path} on volume {home.number}.", changes


def _menu_home(request: Request, path: str) -> Volume:
    """The only volume that has the folder of the menu."""
    folder, found = path.rpartition("/")[0], []
    for volume in request.environment.volumes:
        try:
            home = request.environment.find(volume, folder) if not volume.extended else None
        except OutOfReachError:
            continue
        found += [volume] if home is not None and home.is_folder else []
    if len(found) != 1:
        count = "No volume" if not found else f"{len(found)} volumes"
        raise RefusedError(
            f"{count} have the folder {folder}, so where the menu goes cannot be told.",
            "Ask the user.",
        )
    return found[0]


def _plain_kernels(request: Request, volume: Volume) -> list[KernelWithInitramfs]:
    """The sound kernels of a volume whose names are nothing but names: what a menu would take for
    commands, or for the end of a line, is not written into one.
    """
    return [
        kernel
        for kernel in find_sound_kernels(request.environment, volume)
        if all(is_plain(name) for name in (kernel.path, kernel.version, kernel.initrd))
    ]


def _as_text(word: str) -> str:
    """A word of a command line as GRUB's script language takes it literally (GNU GRUB manual,
    "Quoting").
    """
    if is_plain(word):
        return word
    return "'" + word.replace("'", "'\\''") + "'"


def _menu_entry(request: Request, wanted: WantedSystem, kernel: KernelWithInitramfs) -> str:
    identifier = request.environment.contents(kernel.volume).info.identifier
    rows = [f"search --no-floppy --fs-uuid --set=root {identifier}"] if identifier else []
    rows += [
        f"linux {kernel.path} {' '.join(map(_as_text, wanted.line(bool(kernel.initrd)).split()))}",
        *([f"initrd {kernel.initrd}"] if kernel.initrd else []),
    ]
    inside = "\n".join(f"  {row}" for row in rows)
    title = "".join(sign for sign in wanted.title if sign not in "'\\\n")
    return f"menuentry '{title} ({kernel.version})' {{\n{inside}\n}}"


# The repair `boot-files`: the fallback loader that firmware finds without a boot entry, copied
# afresh.
#
# It is copied from where a sound one is: another loader of the same boot manager on the volume, or
# the files that the installed system keeps of it. Nothing else on the volume is changed, and
# nothing is deleted.


BOOT_FILES = RepairId.BOOT_FILES
_ANSWERS = (
    FindingId.EFI_LOADER_DAMAGED,
    FindingId.EFI_ENTRY_NEEDED,
    FindingId.EFI_LOADER_MISSING,
    FindingId.FIRMWARE_FINDS_NOTHING,
)


def propose_boot_files(request: Request) -> Proposal:
    """Patches that put one file on the EFI system partition.

    Raises:
        RefusedError: no such finding, no sound loader to copy, or no room for it.
    """
    disk, present = request.disk, request.found(*_ANSWERS)
    asked_for = request.calling_for(BOOT_FILES) or request.found(FindingId.EFI_ENTRY_NEEDED)
    if not asked_for:
        raise RefusedError(
            "The fallback loader is there, or there is none to copy.", "Nothing is written."
        )
    second = request.found(FindingId.SECOND_LOADER_MISSING, FindingId.SECOND_LOADER_DAMAGED)
    if second:
        return _second_loader(request, second[0])
    spare = spare_loader(request.environment)
    if spare is None:
        raise RefusedError(
            "No sound loader was found that could be copied.", "Copy the files off a rescue stick."
        )
    check_awake(read_contents(disk.source, spare.home))
    path = fallback_name(spare.machine)
    places = [path, *([spare.own_path] if spare.own_path else [])]
    files = dict.fromkeys(places, spare.data)
    if spare.own_path:
        folder = spare.own_path.rpartition("/")[0]
        files |= files_beside(request, spare.volume, spare.path, spare.home, folder)
    patches = _patches(request, spare.home, files)
    beside = len(files) - len(places)
    says = (
        f"Copies {spare.path} of volume {spare.volume.number} to {' and '.join(places)} on volume"
        f" {spare.home.number}{f', and {beside} files beside it' if beside else ''}."
    )
    answers = tuple(
        finding
        for finding in present
        if finding.id != FindingId.EFI_LOADER_DAMAGED
        or (finding.where.path or "").upper() in map(str.upper, places)
    )
    return Proposal(repair=BOOT_FILES, says=says, changes=patches, answers=answers)


def _second_loader(request: Request, finding: Finding) -> Proposal:
    """The file that another loader hands over to, from where a system keeps it."""
    path = finding.where.path or ""
    spare = spare_second_loader(request.environment, path)
    homes = [esp.volume for esp in efi_volumes(request.environment) if not esp.unreadable]
    if spare is None or not homes:
        raise RefusedError(
            f"No sound file was found that could stand at {path}.",
            "Copy the files off a rescue stick.",
        )
    volume, kept, data = spare
    home = homes[0]
    check_awake(read_contents(request.disk.source, home))
    says = f"Copies /{kept} of volume {volume.number} to {path} on volume {home.number}."
    patches = _patches(request, home, {path: data})
    return Proposal(repair=BOOT_FILES, says=says, changes=patches, answers=(finding,))


def _patches(request: Request, home: Volume, files: dict[str, bytes]) -> tuple[Patch, ...]:
    path = next(iter(files))
    try:
        writer = FatWriter(request.disk.source, home.offset)
        for place, data in files.items():
            writer.put(place, data)
        ranges = writer.ranges()
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    if not ranges:
        raise RefusedError(f"{path} is already what would be written.")
    return tuple(
        Patch(offset, before, after, f"{path} and the tables it needs")
        for offset, before, after in ranges
    )
