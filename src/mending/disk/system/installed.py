"""Installed systems on one volume, known by their content and never by a folder name or a
letter.
"""

import struct
from collections.abc import Callable

import msgspec

from mending.disk.files import FileDamagedError, FileFound, Files

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
