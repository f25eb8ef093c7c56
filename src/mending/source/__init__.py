"""Bytes, wherever they come from. The only room that opens anything; errors of the operating system
end here.
"""

from mending.source.base import (
    IdentityPart,
    MountedTree,
    Source,
    Target,
    TargetKind,
    as_disk,
    as_tree,
)
from mending.source.folder import FolderSource, known_key, machine_key, open_folder_source
from mending.source.identity import Identity, fault_of, identity_of, is_known_by, place_of, sha256
from mending.source.image import FaultyMemory, FileSource, MemorySource, PowerCutError, open_source
from mending.source.output import (
    Output,
    append_durably,
    folder_made_durably,
    make_file_durably,
    make_folder,
    make_folder_durably,
    read_file,
    read_folder,
    remove_folder,
    settle_output,
    write_durably,
)
from mending.source.plain_file import open_plain, refuse_strange
from mending.source.stitched import FileOnDisk, StitchedSource, Stripes
from mending.source.stream import unpacked
from mending.source.targets import DiskOverlay, FolderOverlay

__all__ = [
    "DiskOverlay",
    "FaultyMemory",
    "FileOnDisk",
    "FileSource",
    "FolderOverlay",
    "FolderSource",
    "Identity",
    "IdentityPart",
    "MemorySource",
    "MountedTree",
    "Output",
    "PowerCutError",
    "Source",
    "StitchedSource",
    "Stripes",
    "Target",
    "TargetKind",
    "append_durably",
    "as_disk",
    "as_tree",
    "fault_of",
    "folder_made_durably",
    "identity_of",
    "is_known_by",
    "known_key",
    "machine_key",
    "make_file_durably",
    "make_folder",
    "make_folder_durably",
    "open_folder_source",
    "open_plain",
    "open_source",
    "place_of",
    "read_file",
    "read_folder",
    "refuse_strange",
    "remove_folder",
    "settle_output",
    "sha256",
    "unpacked",
    "write_durably",
]
