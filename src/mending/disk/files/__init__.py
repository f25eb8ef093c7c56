"""Files and folders inside volumes, by our own readers."""

from mending.disk.files.files import FileDamagedError, FileFound, Files, FilesUnavailableError
from mending.disk.files.readers import open_files, open_memory_disk, open_tree, possible_tops

__all__ = [
    "FileDamagedError",
    "FileFound",
    "Files",
    "FilesUnavailableError",
    "open_files",
    "open_memory_disk",
    "open_tree",
    "possible_tops",
]
