"""Files put in their place on a volume or in a mounted tree, and system files restored."""

from mending.repair.files.placing import (
    free_name,
    patch_file,
    put_aside,
    put_by_driver,
    put_files,
    read_all,
    read_file,
    read_whole,
    real_path,
)
from mending.repair.files.restoring import OWN_SUMS, FilesResult, check_files

__all__ = [
    "OWN_SUMS",
    "FilesResult",
    "check_files",
    "free_name",
    "patch_file",
    "put_aside",
    "put_by_driver",
    "put_files",
    "read_all",
    "read_file",
    "read_whole",
    "real_path",
]
