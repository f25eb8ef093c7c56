"""Crash evidence read: dumps, logs and tables to crashes and typed events."""

from mending.crash.read.clocks import moved_by
from mending.crash.read.events import FileRead, LogEvent
from mending.crash.read.locations import (
    LogFile,
    log_file,
    log_files,
    moments_on,
    opened_log,
    packages_of,
)
from mending.crash.read.reader import BY_HIVE, Reader

__all__ = [
    "BY_HIVE",
    "FileRead",
    "LogEvent",
    "LogFile",
    "Reader",
    "log_file",
    "log_files",
    "moments_on",
    "moved_by",
    "opened_log",
    "packages_of",
]
