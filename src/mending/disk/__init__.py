"""Walks that know how formats hang together: disk, tables, volumes, files, installed systems."""

from mending.disk.boot_sectors import READABLE_DAMAGE, Backup, BootSector
from mending.disk.candidates import Found
from mending.disk.files import FileFound, Files, FilesUnavailableError, can_read_files, open_files
from mending.disk.guid_table import GuidTable, TableCopy, read_guid_table
from mending.disk.search import Progress, search, silent
from mending.disk.search_results import FoundResult, SearchResult, search_result
from mending.disk.sectors import settle_sector_size
from mending.disk.sort import HEAD_BYTES, sort_of
from mending.disk.survey import Disk, Scheme, survey, volume_at
from mending.disk.systems import InstalledSystem, find_systems
from mending.disk.volumes import Volume

__all__ = [
    "HEAD_BYTES",
    "READABLE_DAMAGE",
    "Backup",
    "BootSector",
    "Disk",
    "FileFound",
    "Files",
    "FilesUnavailableError",
    "Found",
    "FoundResult",
    "GuidTable",
    "InstalledSystem",
    "Progress",
    "Scheme",
    "SearchResult",
    "TableCopy",
    "Volume",
    "can_read_files",
    "find_systems",
    "open_files",
    "read_guid_table",
    "search",
    "search_result",
    "settle_sector_size",
    "silent",
    "sort_of",
    "survey",
    "volume_at",
]
