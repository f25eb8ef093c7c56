"""Files put in their place on a volume or in a mounted tree, hives and boot configurations changed,
and system files restored."""

from mending.repair.files.aside import free_name, put_aside, read_all, real_path
from mending.repair.files.by_driver import put_by_driver
from mending.repair.files.file_check import OWN_SUMS, FilesResult, check_files
from mending.repair.files.hive_file import (
    PROGRAMS_HIVE,
    HiveFile,
    hive_changes,
    open_hive,
    open_system_hive,
    put_hive,
)
from mending.repair.files.in_place import patch_file, read_file
from mending.repair.files.nt_home import nt_home, nt_homes, nt_settings
from mending.repair.files.placement import put_files, read_whole
from mending.repair.files.store_file import (
    ELEMENT,
    default_entry,
    element_path,
    objects_of,
    open_store,
    set_element,
    store_volumes,
)

__all__ = [
    "ELEMENT",
    "OWN_SUMS",
    "PROGRAMS_HIVE",
    "FilesResult",
    "HiveFile",
    "check_files",
    "default_entry",
    "element_path",
    "free_name",
    "hive_changes",
    "nt_home",
    "nt_homes",
    "nt_settings",
    "objects_of",
    "open_hive",
    "open_store",
    "open_system_hive",
    "patch_file",
    "put_aside",
    "put_by_driver",
    "put_files",
    "put_hive",
    "read_all",
    "read_file",
    "read_whole",
    "real_path",
    "set_element",
    "store_volumes",
]
