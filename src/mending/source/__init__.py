"""Bytes, wherever they come from. The only room that opens anything; errors of the operating system end here."""

from mending.source.base import Source, TargetKind
from mending.source.folder import FolderSource, PatchedFolder, Tree, open_folder_source
from mending.source.image import FileSource, open_source
from mending.source.keeping import append_durably, make_folder_durably, read_file, read_folder, write_durably
from mending.source.memory import FaultyMemory, MemorySource, PatchedSource, PowerCutError
from mending.source.stream import SourceStream, unpacked

__all__ = [
    "FaultyMemory",
    "FileSource",
    "FolderSource",
    "MemorySource",
    "PatchedFolder",
    "PatchedSource",
    "PowerCutError",
    "Source",
    "SourceStream",
    "TargetKind",
    "Tree",
    "append_durably",
    "make_folder_durably",
    "open_folder_source",
    "open_source",
    "read_file",
    "read_folder",
    "unpacked",
    "write_durably",
]
