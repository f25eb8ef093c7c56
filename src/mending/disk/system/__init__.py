"""Installed systems on volumes, what each volume holds, and the files that a system starts by."""

from mending.disk.system.installed import (
    Brought,
    Catalogues,
    Contents,
    InstalledSystem,
    SystemsFound,
    brought_by,
    drivers_of,
    read_contents,
    systems_on,
)
from mending.disk.system.packages import (
    PACKAGE_STATUS,
    FileCheck,
    PackageFiles,
    private_files,
    private_spans,
    sound_copies,
)

__all__ = [
    "PACKAGE_STATUS",
    "Brought",
    "Catalogues",
    "Contents",
    "FileCheck",
    "InstalledSystem",
    "PackageFiles",
    "SystemsFound",
    "brought_by",
    "drivers_of",
    "private_files",
    "private_spans",
    "read_contents",
    "sound_copies",
    "systems_on",
]
