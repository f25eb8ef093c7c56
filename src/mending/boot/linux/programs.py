"""Whether a program of an installed Linux system could run: mode, kind, machine, and the loader that it asks for."""

from mending.boot.grounds import Grounds
from mending.disk import FileFound, Volume
from mending.formats import elf
from mending.model import Window

_SCRIPT = b"#!"
_EXECUTE = 0o111


class Unfit(Exception):
    """Why a program cannot run. Attributes: code: ending of a finding's id. says: what is so, after its name."""

    def __init__(self, code: str, says: str) -> None:
        super().__init__(says)
        self.code, self.says = code, says


def check_program(grounds: Grounds, volume: Volume, found: FileFound) -> None:
    """Raise Unfit where the kernel would refuse to run a file, ElsewhereError where it cannot be read."""
    if not found.mode & _EXECUTE:
        raise Unfit("not-executable", "may not be executed")
    head = grounds.read(volume, found.path, elf.HEAD_BYTES)
    asked = _script_program(head) if head.startswith(_SCRIPT) else _interpreter(head)
    if asked and grounds.find(volume, asked) is None:
        raise Unfit("loader-missing", f"asks for {asked}, which is not there")


def _interpreter(head: bytes) -> str:
    reading = elf.read(Window(head))
    if reading.problems or reading.record.machine not in elf.X86:
        raise Unfit("damaged", "is no program for this machine")
    return reading.record.interpreter


def _script_program(head: bytes) -> str:
    words = head[len(_SCRIPT) :].split(b"\n")[0].split()
    if not words:
        raise Unfit("damaged", "is a script that names no program")
    return words[0].decode("utf-8", errors="replace")
