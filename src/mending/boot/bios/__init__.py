"""The chain of a BIOS machine, from the MBR to the first file of a boot manager."""

from mending.boot.bios.active_entry import could_start, startable
from mending.boot.bios.chain import BiosChain
from mending.boot.bios.code_kinds import CodeKind, recognise_code

__all__ = ["BiosChain", "CodeKind", "could_start", "recognise_code", "startable"]
