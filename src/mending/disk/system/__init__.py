"""Installed systems on volumes, what each volume holds, and the files that a system starts by."""

from mending.disk.system.brought import Brought, brought_by
from mending.disk.system.catalogues import Catalogues
from mending.disk.system.contents import Contents, read_contents
from mending.disk.system.device_drivers import drivers_of
from mending.disk.system.installed import InstalledSystem, SystemsFound, systems_on
from mending.disk.system.package_files import PACKAGE_STATUS, FileCheck, PackageFiles, sound_copies
from mending.disk.system.private_fields import private_files, private_spans

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
