"""What the checks of one system of the nt family look at, and its programs as they judge them."""

import re
from collections.abc import Collection

import msgspec

from mending.boot.chain import NOWHERE, BootEnvironment, OutOfReachError, finding
from mending.disk.hives import Hive, Key
from mending.disk.volume import Volume
from mending.formats.executable import pe, pe_tables, signatures
from mending.knowledge.families import nt_names
from mending.model import (
    FINDINGS,
    Finding,
    FindingId,
    InputError,
    Phase,
    RepairId,
    Severity,
    Where,
    Window,
)

_PROGRAM_BYTES = 64 * 1024 * 1024
"""Longest program that is read whole; kernels have some twelve MiB."""
_ALL_BYTES = 256 * 1024 * 1024
"""Bytes of all programs that are read of one system; real ones need some sixty MiB."""
_PROGRAM_END = re.compile(r"\.(exe|sys|com|dll)(?=\s|$)", re.IGNORECASE)
_MACHINES = {0x14C: "32-bit PCs", 0x8664: "64-bit PCs", 0xAA64: "64-bit ARM", 0x1C4: "32-bit ARM"}
_ONLY_WHERE_FATAL = {RepairId.DRIVER_OFF}
"""Repairs that change what a start gets on without are not offered for its sake."""


def nt_finding(
    kind: FindingId,
    severity: Severity,
    says: str,
    where: Where = NOWHERE,
    phase: Phase | None = None,
    without: RepairId | None = None,
) -> Finding:
    """A finding of this family, with every repair of its row.

    Args:
        without: the one that is not possible here.
    """
    repairs = tuple(each for each in FINDINGS[kind].repairs if each != without)
    if severity is not Severity.FATAL:
        repairs = tuple(each for each in repairs if each not in _ONLY_WHERE_FATAL)
    return finding(kind, severity, says, where, repairs, phase)


class Shared:
    """What all checks of one system share: libraries, each read once, and how many bytes of
    programs may still be read, for a hostile system may name a long file a thousand times.
    """

    def __init__(self) -> None:
        self.left = _ALL_BYTES
        self.libraries: dict[str, Program | None] = {}
        self.offered: dict[str, frozenset[str]] = {}


class NtStart(msgspec.Struct, frozen=True):
    """One system that is started.

    Attributes:
        root: its folder.
        kernel, hardware_layer: names of files in its programs' folder that stand in for the usual
            ones; empty where none do.
        machine: what its loader was made for; 0 where that is not known.
    """

    environment: BootEnvironment
    volume: Volume
    root: str
    kernel: str = ""
    hardware_layer: str = ""
    machine: int = 0
    shared: Shared = msgspec.field(default_factory=Shared)

    def path(self, below: str) -> str:
        """The path of something in the system's folder."""
        return f"{self.root.rstrip('/')}/{below}"

    @property
    def kernel_names(self) -> tuple[str, str]:
        """The names by which programs want the kernel and its hardware layer."""
        names = nt_names().kernel
        kernel, layer = (path.rpartition("/")[2] for path in (names.file, names.hardware_layer))
        return kernel, layer

    def program(self, line: str) -> tuple[str, bool]:
        """The program that a line of settings names, without its arguments, and whether it is told
        from the top of the system's volume.
        """
        text = line.strip().removeprefix("\\??\\").replace("\\", "/")
        if text.startswith('"'):
            text = text[1:].partition('"')[0]
        ending = _PROGRAM_END.search(text)
        return self.located(text[: ending.end()] if ending else text)

    def located(self, written: str) -> tuple[str, bool]:
        """The file or folder that a path of settings means, and whether it is told from the top of
        the system's volume.
        """
        text, names = written.strip().replace("\\", "/"), nt_names().drivers
        for prefix in names.system_root:
            if text.lower().startswith(prefix):
                return self.path(text[len(prefix) :].lstrip("/")), True
        for prefix in names.system_drive:
            if text.lower().startswith(prefix):
                return f"/{text[len(prefix) :].lstrip('/')}", True
        if text[1:2] == ":":
            return f"/{text[2:].lstrip('/')}", True
        return text.lstrip("/"), False


class NtSettings(msgspec.Struct, frozen=True):
    """A system and its settings as the kernel sees them: the system hive, and in it the control
    set that it selects.
    """

    start: NtStart
    hive: Hive
    control_set: Key


class Program(msgspec.Struct, frozen=True):
    """A program, library or driver.

    Attributes:
        why: what is wrong with it; empty where it is sound or could not be read.
        unread: why it could not be judged.
        is_summed: whether it carries a checksum in its header.
        is_signed: whether it is what a signature inside it was made of; who signed is not judged.
    """

    path: str
    data: bytes = b""
    image: pe.Image | None = None
    why: str = ""
    unread: str = ""
    offset: int = 0
    is_summed: bool = False
    is_signed: bool = False

    @property
    def where(self) -> Where:
        """Where a fault of it was read."""
        return Where(path=self.path, offset=self.offset)


def read_program(start: NtStart, path: str) -> Program | None:
    """A program of a system, judged as its loader does: it is whole, for the machine, and its
    checksum fits where it keeps one. None where there is none.

    Args:
        path: from the top of the system's volume.
    """
    environment = start.environment
    try:
        found = environment.find(start.volume, path)
        if found is None or found.is_folder:
            return None
        if found.bytes > _PROGRAM_BYTES:
            return Program(found.path, unread=f"it has {found.bytes} bytes")
        start.shared.left -= found.bytes
        if start.shared.left < 0:
            return Program(found.path, unread=f"{_ALL_BYTES} bytes of programs were read before it")
        data = environment.read(start.volume, path, _PROGRAM_BYTES)
    except (OutOfReachError, InputError) as error:
        return Program(path, unread=str(error))
    return judge_program(found.path, data, start.machine)


def judge_program(path: str, data: bytes, machine: int) -> Program:
    """A program by its bytes. Args: machine: what it must be made for; 0 for any."""
    if not data:
        return Program(path, why="it is empty")
    reading = pe.read_program(Window(data))
    image = reading.record
    if reading.problems:
        first = reading.problems[0]
        why = f"{first.found} instead of {first.expected}, at offset {first.offset}"
        return Program(path, data, image, why, offset=first.offset)
    if machine and image.machine != machine:
        why = f"it is made for {_machine(image.machine)} and not for {_machine(machine)}"
        return Program(path, data, image, why)
    sums = pe_tables.checksum(data)
    if sums is not None and sums[0] != sums[1]:
        why = f"its checksum is {sums[1]:x} and should be {sums[0]:x}"
        return Program(path, data, image, why)
    signed, page = signatures.judged(data)
    if signed is False:
        where = "" if page is None else f"; the first page that differs begins at offset {page}"
        why = f"its bytes are not those that were signed{where}"
        return Program(path, data, image, why, offset=page or 0)
    return Program(path, data, image, is_summed=sums is not None, is_signed=bool(signed))


def _machine(number: int) -> str:
    return _MACHINES.get(number, f"machine {number:x}")


class Libraries:
    """The libraries of one system.

    Args:
        judged: names of those that were judged already: only what they offer counts.
    """

    def __init__(self, start: NtStart, judged: Collection[str] = ()) -> None:
        self._start, self._judged = start, judged
        self._found, self._offered = start.shared.libraries, start.shared.offered

    def lacking(self, program: Program) -> str:
        """What a program wants and does not get; empty where it gets all that can be told."""
        virtual = nt_names().kernel.virtual_libraries
        if program.image is None:
            return ""
        for wanted in pe_tables.imports(program.data):
            name = wanted.library.lower()
            if name.startswith(virtual):
                continue
            library = self._library(name)
            if name in self._judged and (library is None or library.why):
                continue
            if library is None:
                return f"it needs {wanted.library}, which is not there"
            if library.why:
                return f"it needs {library.path}, which is damaged: {library.why}"
            missing = set(wanted.names) - self._offers(name, library)
            if missing and library.image is not None:
                return f"it needs {min(missing)} of {library.path}, which does not offer that"
        return ""

    def _library(self, name: str) -> Program | None:
        if name not in self._found:
            folders = nt_names().kernel.library_folders
            paths = (self._start.path(f"{folder}/{name}") for folder in folders)
            programs = (read_program(self._start, path) for path in paths)
            self._found[name] = next((each for each in programs if each is not None), None)
        return self._found[name]

    def _offers(self, name: str, library: Program) -> frozenset[str]:
        if name not in self._offered:
            self._offered[name] = pe_tables.exports(library.data)
        return self._offered[name]
