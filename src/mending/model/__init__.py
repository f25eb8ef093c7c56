"""The vocabulary that every room speaks: phases, places, findings, problems, patches, units, errors, limits."""

from mending.model.checksums import crc32c, fletcher64
from mending.model.errors import InputError, MendingError, ReadError, RefusedError, RepairFailedError, UsageError
from mending.model.facts import Facts, VolumeState
from mending.model.findings import Finding, Severity, Where
from mending.model.heavy import has_extra, load_extra, load_numpy, load_scipy
from mending.model.layout import Field, Layout
from mending.model.patches import Change, FileChange, Patch
from mending.model.phases import PHASES, Phase, PhaseState, Verdict
from mending.model.places import STAKES, Place, Stakes
from mending.model.problems import Problem, Reading
from mending.model.records import LogRecord, RestorePoint
from mending.model.text import clean_text, decode_text, hex_preview, plain_bytes, plain_size, plain_utf16
from mending.model.times import plain_time, read_short, read_time, wants_day_first
from mending.model.units import ByteOffset, Lba, SectorCount
from mending.model.window import Window

__all__ = [
    "PHASES",
    "STAKES",
    "ByteOffset",
    "Change",
    "Facts",
    "Field",
    "FileChange",
    "Finding",
    "InputError",
    "Layout",
    "Lba",
    "LogRecord",
    "MendingError",
    "Patch",
    "Phase",
    "PhaseState",
    "Place",
    "Problem",
    "ReadError",
    "Reading",
    "RefusedError",
    "RepairFailedError",
    "RestorePoint",
    "SectorCount",
    "Severity",
    "Stakes",
    "UsageError",
    "Verdict",
    "VolumeState",
    "Where",
    "Window",
    "clean_text",
    "crc32c",
    "decode_text",
    "fletcher64",
    "has_extra",
    "hex_preview",
    "load_extra",
    "load_numpy",
    "load_scipy",
    "plain_bytes",
    "plain_size",
    "plain_time",
    "plain_utf16",
    "read_short",
    "read_time",
    "wants_day_first",
]
