"""Whether a program of an installed Linux system could run: mode, kind, machine, the loader that it
asks for, and its libraries.
"""

from enum import Enum, auto

import msgspec

from mending.boot.chain import BootEnvironment
from mending.boot.linux.libraries import Libraries
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
    LIBRARY_UNFIT = auto()
    DAMAGED = auto()


class Unfit(msgspec.Struct, frozen=True):
    """A program that cannot run. `says`: what is so, after its name; `path`: the other file that is
    to blame, where it is one.
    """

    reason: UnfitReason
    says: str
    path: str = ""


def find_unfitness(
    environment: BootEnvironment,
    volume: Volume,
    found: FileFound,
    libraries: Libraries | None = None,
) -> Unfit | None:
    """Why the kernel would refuse to run a file, or its loader would end it; None where it would
    run. Raises OutOfReachError where the file cannot be read.

    Args:
        libraries: of the volume, where they are looked at, too.
    """
    if not found.mode & _EXECUTE:
        return Unfit(UnfitReason.NOT_EXECUTABLE, "may not be executed")
    head = environment.read_head(volume, found.path, elf.HEAD_BYTES)
    is_script = head.startswith(_SCRIPT)
    if is_script:
        words = head[len(_SCRIPT) :].split(b"\n")[0].split()
        if not words:
            return Unfit(UnfitReason.DAMAGED, "is a script that names no program")
        asked = words[0].decode("utf-8", errors="replace")
    else:
        reading = elf.read(Window(head))
        if reading.problems or reading.record.machine not in elf.X86:
            return Unfit(UnfitReason.DAMAGED, "is no program for this machine")
        asked = reading.record.interpreter
    loader = environment.find(volume, asked) if asked else None
    if asked and loader is None:
        return Unfit(UnfitReason.LOADER_MISSING, f"asks for {asked}, which is not there", asked)
    if libraries is None:
        return None
    if is_script:
        unfit = find_unfitness(environment, volume, loader, libraries) if loader else None
        return (
            msgspec.structs.replace(unfit, says=f"asks for {asked}, which {unfit.says}")
            if unfit
            else None
        )
    fault = libraries.fault(found)
    if fault is None and loader is not None:
        fault = libraries.fault_of_loader(loader)
    return Unfit(UnfitReason.LIBRARY_UNFIT, fault.says, fault.path) if fault is not None else None
