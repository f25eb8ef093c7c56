"""Repairs of what starts a system: boot code, loader files, boot entries, names of roots."""

from mending.repair.boot.boot_code import own_code

__all__ = ["own_code"]
