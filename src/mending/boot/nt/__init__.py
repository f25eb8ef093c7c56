"""The chain of the nt family from its boot manager to a sign-in: boot configuration, loader,
kernel, hives, drivers, programs of the session.
"""

from mending.boot.nt.boot_store import behind_code, behind_loader
from mending.boot.nt.file_list import StartFile, start_files

__all__ = ["StartFile", "behind_code", "behind_loader", "start_files"]
