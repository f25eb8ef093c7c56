"""Walks that know how formats hang together: disk, tables, volumes, files, installed systems."""

from mending.disk.accounts import account, copy_at, fat_volume, mapped_name
from mending.disk.boot_sectors import READABLE_DAMAGE, Backup, BootSector, first_superblock_copy
from mending.disk.candidates import Found
from mending.disk.contents import Contents, contents_of
from mending.disk.fat_copies import FatCopy, read_fats, sound_one
from mending.disk.fat_writer import FatWriter
from mending.disk.files import (
    FileDamagedError,
    FileFound,
    Files,
    FilesUnavailableError,
    open_files,
    open_tree,
    patient_files,
)
from mending.disk.gaps import unlisted_starts
from mending.disk.guid_table import GuidTable, TableCopy, read_guid_table
from mending.disk.maps import DiskMap, Stretch, disk_map, lost_between
from mending.disk.package_files import PACKAGE_STATUS, FileCheck, PackageFiles, sound_copies
from mending.disk.search import Progress, search, silent
from mending.disk.search_results import FoundResult, SearchResult, search_result
from mending.disk.sectors import settle_sector_size
from mending.disk.sort import HEAD_BYTES, sort_of
from mending.disk.survey import Disk, Scheme, survey, volume_at
from mending.disk.systems import InstalledSystem, systems_on
from mending.disk.volumes import Volume

__all__ = [
    "HEAD_BYTES",
    "PACKAGE_STATUS",
    "READABLE_DAMAGE",
    "Backup",
    "BootSector",
    "Contents",
    "Disk",
    "DiskMap",
    "FatCopy",
    "FatWriter",
    "FileCheck",
    "FileDamagedError",
    "FileFound",
    "Files",
    "FilesUnavailableError",
    "Found",
    "FoundResult",
    "GuidTable",
    "InstalledSystem",
    "PackageFiles",
    "Progress",
    "Scheme",
    "SearchResult",
    "Stretch",
    "TableCopy",
    "Volume",
    "account",
    "contents_of",
    "copy_at",
    "disk_map",
    "fat_volume",
    "first_superblock_copy",
    "lost_between",
    "mapped_name",
    "open_files",
    "open_tree",
    "patient_files",
    "read_fats",
    "read_guid_table",
    "search",
    "search_result",
    "settle_sector_size",
    "silent",
    "sort_of",
    "sound_copies",
    "sound_one",
    "survey",
    "systems_on",
    "unlisted_starts",
    "volume_at",
]
