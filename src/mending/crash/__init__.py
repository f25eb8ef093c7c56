"""Crash evidence: what codes and messages mean, the crashes that records tell of, when they began and with what."""

from mending.crash.analysis import analyse
from mending.crash.clues import clues_in
from mending.crash.files import LogFile, log_file, log_files, opened_log
from mending.crash.lookup import CodeMatch, CodeResult, ParameterResult, look_up
from mending.crash.reading import FileRead, Reader
from mending.crash.results import (
    CrashesResult,
    CrashResult,
    ErrorsResult,
    LoopResult,
    ModuleResult,
    OnsetResult,
    PatternResult,
    PointResult,
    RepairAttempt,
    RestoreResult,
    StartResult,
    SuspectResult,
)

__all__ = [
    "CodeMatch",
    "CodeResult",
    "CrashResult",
    "CrashesResult",
    "ErrorsResult",
    "FileRead",
    "LogFile",
    "LoopResult",
    "ModuleResult",
    "OnsetResult",
    "ParameterResult",
    "PatternResult",
    "PointResult",
    "Reader",
    "RepairAttempt",
    "RestoreResult",
    "StartResult",
    "SuspectResult",
    "analyse",
    "clues_in",
    "log_file",
    "log_files",
    "look_up",
    "opened_log",
]
