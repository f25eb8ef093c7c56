"""The vocabulary that every room speaks: phases, places, findings, problems, patches, units,
errors, limits.
"""

from mending.model.catalogue import FINDINGS, REPAIRS, ActsOn, FindingId, Proof, RepairId
from mending.model.changes import Change, FileAttributes, FileChange, Patch
from mending.model.data.checksums import crc32c, fletcher64
from mending.model.data.documents import decode_json, encode_json, format_json, parse_json
from mending.model.data.layout import Field, Layout
from mending.model.data.text import (
    capital,
    clean_text,
    decode_text,
    hex_preview,
    plain_bytes,
    plain_size,
    plain_utf16,
    quoted,
)
from mending.model.data.times import plain_time, read_short, read_time, wants_day_first
from mending.model.data.units import ByteOffset, Lba, SectorCount
from mending.model.data.window import Window
from mending.model.errors import (
    DamagedFileError,
    InputError,
    MendingError,
    NotGatheredError,
    ReadError,
    RefusedError,
    RepairFailedError,
    TookTooMuchError,
    UsageError,
)
from mending.model.filesystem_kinds import KINDS, FilesystemKind, KindRow
from mending.model.findings import Finding, Severity, Where
from mending.model.hand import Hand
from mending.model.inodes import FileKind, FolderName
from mending.model.log_records import LogRecord, RestorePoint
from mending.model.optional_packages import (
    has_extra,
    load_extra,
    load_numpy,
    load_rapidfuzz,
    load_scipy,
    load_unpacker,
)
from mending.model.phases import PHASES, PHASES_ON_DISK, Phase, PhaseState, Verdict
from mending.model.problems import Problem, Reading
from mending.model.progress import Progress, silent
from mending.model.volume_info import Moment, VolumeInfo, VolumeState
from mending.model.work_places import RISKS, Place, Risk

__all__ = [
    "FINDINGS",
    "KINDS",
    "PHASES",
    "PHASES_ON_DISK",
    "REPAIRS",
    "RISKS",
    "ActsOn",
    "ByteOffset",
    "Change",
    "DamagedFileError",
    "Field",
    "FileAttributes",
    "FileChange",
    "FileKind",
    "FilesystemKind",
    "Finding",
    "FindingId",
    "FolderName",
    "Hand",
    "InputError",
    "KindRow",
    "Layout",
    "Lba",
    "LogRecord",
    "MendingError",
    "Moment",
    "NotGatheredError",
    "Patch",
    "Phase",
    "PhaseState",
    "Place",
    "Problem",
    "Progress",
    "Proof",
    "ReadError",
    "Reading",
    "RefusedError",
    "RepairFailedError",
    "RepairId",
    "RestorePoint",
    "Risk",
    "SectorCount",
    "Severity",
    "TookTooMuchError",
    "UsageError",
    "Verdict",
    "VolumeInfo",
    "VolumeState",
    "Where",
    "Window",
    "capital",
    "clean_text",
    "crc32c",
    "decode_json",
    "decode_text",
    "encode_json",
    "fletcher64",
    "format_json",
    "has_extra",
    "hex_preview",
    "load_extra",
    "load_numpy",
    "load_rapidfuzz",
    "load_scipy",
    "load_unpacker",
    "parse_json",
    "plain_bytes",
    "plain_size",
    "plain_time",
    "plain_utf16",
    "quoted",
    "read_short",
    "read_time",
    "silent",
    "wants_day_first",
]
