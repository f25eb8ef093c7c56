"""Bytes, wherever they come from. The only room that opens anything; errors of the operating system end here."""

from mending.source.base import Source, TargetKind
from mending.source.image import FileSource, open_source
from mending.source.keeping import append_durably, make_folder_durably, read_file, read_folder, write_durably
from mending.source.memory import FaultyMemory, MemorySource, PatchedSource, PowerCutError

__all__ = [
    "FaultyMemory",
    "FileSource",
    "MemorySource",
    "PatchedSource",
    "PowerCutError",
    "Source",
    "TargetKind",
    "append_durably",
    "make_folder_durably",
    "open_source",
    "read_file",
    "read_folder",
    "write_durably",
]
