"""Which kernel modules, programs and libraries packages bring, by the file lists of a system's own
package database.
"""

import re
from collections.abc import Iterable, Iterator

import msgspec

from mending.disk.files import Files, FilesUnavailableError
from mending.formats.package import dkms, dpkg, pacman

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
                return dpkg.read_list(text)
    text = _text(files, f"{folders[name]}/files") if name in folders else None
    return pacman.read_list(text) if text is not None else None


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
        yield from dkms.built_modules(text or "")
