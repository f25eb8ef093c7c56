"""Names of files, keys and settings that the chain of a family of systems needs."""

from mending.knowledge.families.nt import NtNames, nt_names

__all__ = ["NtNames", "nt_names"]
