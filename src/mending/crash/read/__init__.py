"""Crash evidence read: dumps, logs and tables to crashes and typed events."""

from mending.crash.read.events import LogEvent
from mending.crash.read.locations import LogFile, log_file, log_files, opened_log
from mending.crash.read.reader import FileRead, Reader

__all__ = ["FileRead", "LogEvent", "LogFile", "Reader", "log_file", "log_files", "opened_log"]
