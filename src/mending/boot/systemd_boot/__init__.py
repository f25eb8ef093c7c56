"""The boot manager that reads entry files and unified kernels."""

from mending.boot.systemd_boot.entries import MARK, EntryChecks

__all__ = ["MARK", "EntryChecks"]
