"""Files put in their place on a volume or in a mounted tree, and system files restored from
packages."""

from mending.repair.files.file_check import OWN_SUMS, FilesResult, check_files
from mending.repair.files.in_place import patch_file, read_file
from mending.repair.files.placement import put_files, read_whole

__all__ = [
    "OWN_SUMS",
    "FilesResult",
    "check_files",
    "patch_file",
    "put_files",
    "read_file",
    "read_whole",
]
