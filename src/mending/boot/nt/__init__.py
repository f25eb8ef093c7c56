"""The chain of the nt family behind its boot manager: the system hive and what it selects."""

from mending.boot.nt.system_hive import system_hive

__all__ = ["system_hive"]
