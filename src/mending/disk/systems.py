"""Installed systems, known by their content and never by a folder name or a letter."""

import msgspec

from mending.disk.files import FileFound, Files, FilesUnavailableError, open_files
from mending.disk.volumes import Volume
from mending.source import Source

_NT_HIVE = "system32/config/system"
_LINUX_NAME_FILES = ("etc/os-release", "usr/lib/os-release")
_NAME_BYTES = 4096


class InstalledSystem(msgspec.Struct, frozen=True):
    """One system on one volume.

    Attributes:
        family: `nt` or `linux`.
        volume: number of its volume.
        title: what it calls itself, or the folder it lives in.
    """

    family: str
    volume: int
    title: str


def find_systems(source: Source, volumes: tuple[Volume, ...]) -> tuple[InstalledSystem, ...]:
    """Every system on the volumes whose files can be read; volumes that cannot are passed over."""
    found: list[InstalledSystem] = []
    for volume in volumes:
        try:
            found += _on(open_files(source, volume), volume.number)
        except FilesUnavailableError:
            continue  # the trace says for each volume whether its files could be read
    return tuple(found)


def _on(files: Files, number: int) -> list[InstalledSystem]:
    top = [one for one in files.listing() if one.is_folder]
    systems = [InstalledSystem("nt", number, one.path) for one in top if files.find(f"{one.path}/{_NT_HIVE}")]
    names = next((one for path in _LINUX_NAME_FILES if (one := files.find(path))), None)
    if names is not None:
        systems.append(InstalledSystem("linux", number, _linux_title(files, names)))
    return systems


def _linux_title(files: Files, names: FileFound) -> str:
    for line in files.read(names, _NAME_BYTES).decode("utf-8", errors="replace").splitlines():
        key, _, value = line.partition("=")
        if key == "PRETTY_NAME":
            return value.strip("\"' ")
    return "linux"
