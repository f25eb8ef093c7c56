"""Files and folders inside volumes, by our own readers or by a library in a sandboxed process."""

from mending.disk.files.files import FileDamagedError, FileFound, Files, FilesUnavailableError
from mending.disk.files.readers import open_files, open_memory_disk, open_tree, patient_files
from mending.disk.files.sandbox import SandboxedProcess, SandboxEndedError

__all__ = [
    "FileDamagedError",
    "FileFound",
    "Files",
    "FilesUnavailableError",
    "SandboxEndedError",
    "SandboxedProcess",
    "open_files",
    "open_memory_disk",
    "open_tree",
    "patient_files",
]
