"""Crash evidence: what codes and messages mean, and the crashes that logs tell of."""

from mending.crash.files import LogFile, log_files
from mending.crash.logs import CrashesResult, CrashResult, crashes_in
from mending.crash.lookup import CodeMatch, CodeResult, ParameterResult, look_up

__all__ = [
    "CodeMatch",
    "CodeResult",
    "CrashResult",
    "CrashesResult",
    "LogFile",
    "ParameterResult",
    "crashes_in",
    "log_files",
    "look_up",
]
