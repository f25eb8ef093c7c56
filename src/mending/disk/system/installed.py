"""Installed systems on one volume, known by their content and never by a folder name or a
letter.
"""

import re
import struct
from collections.abc import Callable, Iterable, Iterator
from fnmatch import translate

import msgspec

from mending.disk.files import (
    FileDamagedError,
    FileFound,
    Files,
    FilesUnavailableError,
    open_files,
    possible_tops,
)
from mending.disk.volume import Volume, read_volume_info
from mending.formats import packages, signatures
from mending.model import FilesystemKind, VolumeInfo, VolumeState
from mending.model.limits import FOLDER_DEPTH
from mending.source import Source

_NT_HIVE = "system32/config/system"
_LINUX_NAME_FILES = ("etc/os-release", "usr/lib/os-release")
_NAME_BYTES = 4096
_HIVE_MAGIC = b"regf"
_FOLDERS = 64
"""Most folders looked into for an installation that was moved aside."""


class InstalledSystem(msgspec.Struct, frozen=True):
    """One system on one volume.

    Attributes:
        family: `nt`, `linux` or `darwin`.
        volume: number of its volume.
        title: what it calls itself, or the folder it lives in.
    """

    family: str
    volume: int
    title: str


class SystemsFound(msgspec.Struct, frozen=True):
    """What a volume holds of systems.

    Attributes:
        earlier: folders of earlier installations beside them.
        damaged: sentences on the folders on the way that cannot be read whole.
    """

    systems: tuple[InstalledSystem, ...]
    earlier: tuple[str, ...]
    damaged: tuple[str, ...]


def systems_on(files: Files, number: int) -> SystemsFound:
    """The systems of a volume. A damaged folder hides no system whose files are elsewhere.

    Of several installations of the nt family on one volume, the one whose hive was written last is
    the system. What lies deeper than a top folder is what an installation program moved aside.

    Raises:
        FilesUnavailableError: damage hides a folder.
    """
    damaged: dict[str, None] = {}

    def find(path: str) -> FileFound | None:
        try:
            return files.find(path)
        except FileDamagedError as error:
            damaged[error.says] = None
            return None

    top = [file for file in files.listing() if file.is_folder]
    hives = [(file, hive) for file in top if (hive := find(f"{file.path}/{_NT_HIVE}"))]
    hives.sort(key=lambda pair: _written(files, pair[1]), reverse=True)
    systems = [InstalledSystem("nt", number, file.path) for file, _ in hives[:1]]
    names = next((file for path in _LINUX_NAME_FILES if (file := find(path))), None)
    if names is not None and any(file.path == "/usr" for file in top):
        systems.append(InstalledSystem("linux", number, _linux_title(files, names)))
    earlier = [file.path for file, _ in hives[1:]]
    known = {file.path for file, _ in hives}
    aside = _moved_aside(files, find, [file for file in top if file.path not in known])
    return SystemsFound(tuple(systems), tuple(earlier + aside), tuple(damaged))


def _moved_aside(
    files: Files, find: Callable[[str], FileFound | None], top: list[FileFound]
) -> list[str]:
    """Folders one level down that hold a whole installation."""
    below = [file for folder in top for file in files.listing(folder.path) if file.is_folder][
        :_FOLDERS
    ]
    found = [file.path for file in below if find(f"{file.path}/{_NT_HIVE}")]
    return found + [file.path for file in top if find(f"{file.path}/etc/os-release")]


def _written(files: Files, hive: FileFound) -> int:
    """When a hive was last written, in its own count (base block, offset 12); -1 where it is
    none.
    """
    head = files.read(hive, 20)
    return (
        int(struct.unpack_from("<Q", head, 12)[0])
        if head[:4] == _HIVE_MAGIC and len(head) == 20
        else -1
    )


def _linux_title(files: Files, names: FileFound) -> str:
    for line in files.read(names, _NAME_BYTES).decode("utf-8", errors="replace").splitlines():
        key, _, value = line.partition("=")
        if key == "PRETTY_NAME":
            return value.strip("\"' ")
    return "linux"


# What each volume holds: its own read_volume_info, its role by content, the systems on it, and
# what could not be looked at.


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


# Which kernel modules, programs and libraries packages bring, by the file lists of a system's own
# package database.


_DPKG, _PACMAN = "var/lib/dpkg/info", "var/lib/pacman/local"
_ARCHITECTURES = ("", ":amd64", ":arm64", ":i386")
_LIST_BYTES, _MOST_NAMES, _MOST_SOURCES = 4 << 20, 2000, 20
_MODULE = re.compile(r"([^/]+)\.ko(?:\.(?:xz|zst|gz))?$")
_FIRMWARE = "/lib/firmware/"
_PROGRAM = re.compile(r"(?:^|/)(?:s?bin|libexec(?:/[^/]+)?|lib/[^/]+)/([^/.]+)$")
_LIBRARY = re.compile(r"/([^/]+\.so(?:\.[\d.]+)?)$")
_SOURCES = "/usr/src/"


class Brought(msgspec.Struct, frozen=True):
    """What a package brings that a crash may name.

    Attributes:
        modules: of the kernel, their names without endings.
        firmware: whether it brings any for devices.
        programs, libraries: their names, without folders.
    """

    modules: frozenset[str]
    firmware: bool = False
    programs: frozenset[str] = frozenset()
    libraries: frozenset[str] = frozenset()


def brought_by(files: Files, names: Iterable[str]) -> dict[str, Brought]:
    """What packages bring, by their names; those that the database has no list of are left out.

    Args:
        names: as logs write them.

    Raises:
        FilesUnavailableError: damage hides the database.
    """
    wanted = list(dict.fromkeys(names))[:_MOST_NAMES]
    found = {}
    folders = _pacman_folders(files)
    for name in wanted:
        paths = _listed(files, name, folders)
        if paths is not None:
            found[name] = _brought(files, paths)
    return found


def _listed(files: Files, name: str, folders: dict[str, str]) -> list[str] | None:
    if "/" in name:
        return None
    for architecture in _ARCHITECTURES:
        for home in (_DPKG, ""):
            text = _text(files, f"{home}/{name}{architecture}.list")
            if text is not None:
                return packages.read_dpkg_list(text)
    text = _text(files, f"{folders[name]}/files") if name in folders else None
    return packages.read_pacman_list(text) if text is not None else None


def _pacman_folders(files: Files) -> dict[str, str]:
    """Folders by the names of their packages: name, version and release stand between dashes."""
    home = files.find(_PACMAN)
    if home is None or not home.is_folder:
        return {}
    inside = (each.path for each in files.listing(home.path) if each.is_folder)
    return {path.rpartition("/")[2].rsplit("-", 2)[0]: path for path in inside}


def _text(files: Files, path: str) -> str | None:
    found = files.find(path)
    if found is None or found.is_folder:
        return None
    return files.read(found, _LIST_BYTES).decode("utf-8", errors="replace")


def _brought(files: Files, paths: list[str]) -> Brought:
    modules = {match.group(1) for path in paths if (match := _MODULE.search(path))}
    firmware = any(_FIRMWARE in path for path in paths)
    return Brought(
        frozenset(modules | set(_built(files, paths))),
        firmware,
        frozenset(_named(_PROGRAM, paths)),
        frozenset(_named(_LIBRARY, paths)),
    )


def _named(pattern: re.Pattern[str], paths: list[str]) -> Iterator[str]:
    return (match.group(1) for path in paths if (match := pattern.search(path)))


def _built(files: Files, paths: list[str]) -> Iterator[str]:
    """Modules that are built on the PC out of sources in a package."""
    sources = [path for path in paths if path.startswith(_SOURCES) and path.endswith("/dkms.conf")]
    for path in sources[:_MOST_SOURCES]:
        try:
            text = _text(files, path)
        except FilesUnavailableError:  # the list alone is worth something
            continue
        yield from packages.built_modules(text or "")


# Which driver a device uses, by the table in which a system of the linux family keeps that.
#
# `modules.alias` of a kernel has lines `alias PATTERN MODULE`; a device has a text of its
# identifiers that one of the patterns fits, with `*` for any (depmod(8); Linux 6.1,
# `scripts/mod/file2alias.c`). A log tells maker and product of a device, for one on the inner bus
# its class, too: patterns that ask for more are passed over.


_KERNELS = ("usr/lib/modules", "lib/modules")
_TABLE = "modules.alias"
_TABLE_BYTES, _MOST_KERNELS = 16 << 20, 8
_USB = re.compile(r"idVendor=([0-9a-f]{4}), idProduct=([0-9a-f]{4})", re.IGNORECASE)
_PCI = re.compile(
    r"\[([0-9a-f]{4}):([0-9a-f]{4})\].* class (?:0x)?([0-9a-f]{2})([0-9a-f]{2})([0-9a-f]{2})",
    re.IGNORECASE,
)


def drivers_of(files: Files, names: Iterable[str]) -> dict[str, Brought]:
    """The drivers of devices, by the words in which a kernel tells of them; those that none of the
    system's kernels has a driver for are left out.

    Raises:
        FilesUnavailableError: damage hides the tables.
    """
    wanted = {name: text for name in names if (text := _identifiers(name))}
    found: dict[str, set[str]] = {}
    for table in _tables(files) if wanted else ():
        for name, module in _fitting(table, wanted):
            found.setdefault(name, set()).add(module)
    return {name: Brought(frozenset(modules)) for name, modules in found.items()}


def _identifiers(name: str) -> str:
    """The text that patterns are held against; empty where the words name no device by numbers.
    What is not known is `?`, which fits `*` alone.
    """
    if match := _USB.search(name):
        vendor, product = match.groups()
        return f"usb:v{vendor.upper()}p{product.upper()}d?dc?dsc?dp?ic?isc?ip?in?"
    if match := _PCI.search(name):
        vendor, device, base, sub, interface = (part.upper() for part in match.groups())
        return f"pci:v0000{vendor}d0000{device}sv?sd?bc{base}sc{sub}i{interface}"
    return ""


def _tables(files: Files) -> Iterator[str]:
    for home in _KERNELS:
        folder = files.find(home)
        if folder is None or not folder.is_folder:
            continue
        kernels = sorted(
            (each.path for each in files.listing(folder.path) if each.is_folder), reverse=True
        )
        for kernel in kernels[:_MOST_KERNELS]:
            table = files.find(f"{kernel}/{_TABLE}")
            if table is not None and not table.is_folder:
                yield files.read(table, _TABLE_BYTES).decode("ascii", errors="replace")
        return


def _fitting(table: str, wanted: dict[str, str]) -> Iterator[tuple[str, str]]:
    for line in table.splitlines():
        words = line.split()
        if len(words) != 3 or words[0] != "alias" or not words[1].startswith(("usb:", "pci:")):
            continue
        if words[1].startswith(("usb:v*", "pci:v*d*sv*sd*bc*")):  # whoever made it, whatever it is
            continue
        fits = re.compile(translate(words[1])).match
        for name, text in wanted.items():
            if fits(text):
                yield name, words[2]


# Catalogues of a system of the nt family: lists of digests by which files are known that carry no
# signature of their own.


_MOST_CATALOGUES, _MOST_BYTES, _DEEPEST = 20_000, 1 << 30, 3
_CATALOGUE_BYTES = 16 << 20
_MOST_DIGESTS = 2_000_000
"""Several times what a system has; they take a few hundred megabytes. What stands in catalogues
behind that many is not known."""


class Catalogues:
    """The digests that the catalogues of a system list, read when they are asked for the first
    time.

    Args:
        files: of the system's volume; None where they cannot be read.
        folder: below which the catalogues are.
    """

    def __init__(self, files: Files | None, folder: str) -> None:
        self._files, self._folder = files, folder
        self._known: frozenset[bytes] | None = None
        self.count = 0

    def know(self, data: bytes) -> bool:
        """Whether a program is listed: by the digest that signatures take, or, as older lists have
        it, by SHA-1 of it.
        """
        known = self._digests()
        return bool(known) and not known.isdisjoint(signatures.listed_as(data))

    def _digests(self) -> frozenset[bytes]:
        if self._known is None:
            found: set[bytes] = set()
            for data in self._read():
                digests = signatures.catalogue_digests(data)
                self.count += bool(digests)
                found |= digests
                if len(found) > _MOST_DIGESTS:
                    break
            self._known = frozenset(found)
        return self._known

    def _read(self) -> Iterator[bytes]:
        """The files below the folder of catalogues; what is damaged is left out."""
        files = self._files
        if files is None:
            return
        try:
            home = files.find(self._folder)
        except FilesUnavailableError:
            return
        left = _MOST_BYTES
        for found in _below(files, home, _DEEPEST) if home is not None and home.is_folder else ():
            if found.bytes > min(_CATALOGUE_BYTES, left):
                continue
            left -= found.bytes
            try:
                yield files.read(found, _CATALOGUE_BYTES)
            except FilesUnavailableError:
                continue


def _below(files: Files, folder: FileFound, depth: int) -> Iterator[FileFound]:
    try:
        inside = files.listing(folder.path)[:_MOST_CATALOGUES]
    except FilesUnavailableError:
        return
    for found in inside:
        if not found.is_folder:
            yield found
        elif depth:
            yield from _below(files, found, depth - 1)
