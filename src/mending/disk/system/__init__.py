"""Installed systems on volumes, what each volume holds, and the files that a system starts by."""

from mending.disk.system.contents import Contents, read_contents
from mending.disk.system.installed import InstalledSystem, systems_on
from mending.disk.system.package_files import PACKAGE_STATUS, FileCheck, PackageFiles, sound_copies

__all__ = [
    "PACKAGE_STATUS",
    "Contents",
    "FileCheck",
    "InstalledSystem",
    "PackageFiles",
    "read_contents",
    "sound_copies",
    "systems_on",
]
