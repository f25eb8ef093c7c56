"""Whether a program of an installed Linux system could run: mode, kind, machine, and the loader
that it asks for.
"""

from enum import Enum, auto

import msgspec

from mending.boot.chain import BootEnvironment
from mending.disk.files import FileFound
from mending.disk.volume import Volume
from mending.formats.executable import elf
from mending.model import Window

FIRST_PROGRAMS = ("/lib/systemd/systemd", "/usr/lib/systemd/systemd")
"""What `/sbin/init` is a link to on most systems (init(1) of systemd)."""
_SCRIPT = b"#!"
_EXECUTE = 0o111


class UnfitReason(Enum):
    """Why the kernel refuses to run a file."""

    NOT_EXECUTABLE = auto()
    LOADER_MISSING = auto()
    DAMAGED = auto()


class Unfit(msgspec.Struct, frozen=True):
    """A program that cannot run. `says`: what is so, after its name."""

    reason: UnfitReason
    says: str


def find_unfitness(environment: BootEnvironment, volume: Volume, found: FileFound) -> Unfit | None:
    """Why the kernel would refuse to run a file; None where it would run it. Raises
    OutOfReachError where the file cannot be read.
    """
    if not found.mode & _EXECUTE:
        return Unfit(UnfitReason.NOT_EXECUTABLE, "may not be executed")
    head = environment.read_head(volume, found.path, elf.HEAD_BYTES)
    if head.startswith(_SCRIPT):
        words = head[len(_SCRIPT) :].split(b"\n")[0].split()
        if not words:
            return Unfit(UnfitReason.DAMAGED, "is a script that names no program")
        asked = words[0].decode("utf-8", errors="replace")
    else:
        reading = elf.read(Window(head))
        if reading.problems or reading.record.machine not in elf.X86:
            return Unfit(UnfitReason.DAMAGED, "is no program for this machine")
        asked = reading.record.interpreter
    if asked and environment.find(volume, asked) is None:
        return Unfit(UnfitReason.LOADER_MISSING, f"asks for {asked}, which is not there")
    return None
