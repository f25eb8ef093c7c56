"""Repairs of the settings of the nt family: its hives, and what starts with them."""

from mending.repair.nt.system_files import files_beside

__all__ = ["files_beside"]
