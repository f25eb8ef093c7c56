"""Walks that know how formats hang together: disk, tables, volumes, files, installed systems."""

from mending.disk.files import FileFound, Files, FilesUnavailableError, open_files
from mending.disk.sectors import settle_sector_size
from mending.disk.sort import HEAD_BYTES, sort_of
from mending.disk.survey import Disk, Scheme, survey
from mending.disk.systems import InstalledSystem, find_systems
from mending.disk.volumes import Backup, BootSector, Volume

__all__ = [
    "HEAD_BYTES",
    "Backup",
    "BootSector",
    "Disk",
    "FileFound",
    "Files",
    "FilesUnavailableError",
    "InstalledSystem",
    "Scheme",
    "Volume",
    "find_systems",
    "open_files",
    "settle_sector_size",
    "sort_of",
    "survey",
]
