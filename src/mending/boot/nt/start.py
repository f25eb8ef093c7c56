"""What the checks of one system of the nt family look at, and its programs as they judge them."""

import re
from collections.abc import Collection, Mapping, Sequence

import msgspec

from mending.boot.chain import NOWHERE, BootEnvironment, OutOfReachError, finding
from mending.disk.hives import Hive, Key, Replayed, replayed
from mending.disk.volume import Volume
from mending.formats import hives, pe, signatures
from mending.formats.hives import BASE_BYTES
from mending.knowledge.families import nt_names
from mending.model import (
    FINDINGS,
    Finding,
    FindingId,
    InputError,
    Phase,
    Problem,
    RepairId,
    Severity,
    Where,
    Window,
)
from mending.model.limits import HIVE_BYTES

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
    sums = pe.checksum(data)
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
        for wanted in pe.imports(program.data):
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
            self._offered[name] = pe.exports(library.data)
        return self._offered[name]


# A hive as its kernel would see it: with the writes of the logs beside it, in memory.


ENDS_THE_START = {"hive-magic", "hive-checksum", "hive-root", "hive-length", "hive-cut"}
"""Problems with which a loader or kernel cannot use a hive at all."""
LOGS = (".log", ".log1", ".log2")
"""How the names of logs beside a hive end."""
_LEAST = 512
_WORDS = {
    "hive-magic": "the mark of its base block",
    "hive-checksum": "the checksum of its base block",
    "hive-root": "the place of its root",
    "hive-length": "its length",
    "hive-cut": "what is there",
    "hive-version": "its version",
    "bin-magic": "the mark of a bin",
    "bin-offset": "the place that a bin names",
    "bin-length": "the length of a bin",
    "cell-length": "the length of a cell",
}


def replayed_hive(
    environment: BootEnvironment, volume: Volume, path: str
) -> tuple[Hive | None, Replayed, str]:
    """A hive, what its logs did to it, and why it cannot be used: then there is none.

    Raises:
        OutOfReachError: its file cannot be read. InputError: a log makes no sense.
    """
    data = environment.read(volume, path, HIVE_BYTES)
    if len(data) < _LEAST:
        return None, Replayed(data, 0, False), f"it has only {len(data)} bytes"
    logs = [environment.read(volume, f"{path}{ending}", HIVE_BYTES) for ending in LOGS]
    after = replayed(data, logs)
    hive = Hive(after.data)
    fatal = [each for each in hive.check() if each.code in ENDS_THE_START]
    return (None, after, told(fatal)) if fatal else (hive, after, "")


def lost_bins(data: bytes) -> RepairId | None:
    """The repair that is not possible where more than the base block of a hive is damaged; None
    where its bins are sound as far as the base block tells of them.
    """
    base = hives.read(Window(data[:BASE_BYTES])).record if len(data) >= BASE_BYTES else None
    wanted = base.bins if base is not None and not base.bins % BASE_BYTES else 0
    length = hives.bins_length(data)
    broken = not length or length < wanted or hives.check_bins(data[BASE_BYTES:], length)
    return RepairId.HIVE_HEADER if broken else None


def told(problems: Sequence[Problem]) -> str:
    """What is wrong with a hive, in words."""
    first = problems[0]
    what = _WORDS.get(first.code, "a number in it")
    more = f"; {len(problems) - 1} more faults" if len(problems) > 1 else ""
    return f"{what} is {first.found} instead of {first.expected}, at offset {first.offset}{more}"


# The drivers and services of a control set, and the order in which the loader takes those that
# come with the kernel.
#
# Source: published documentation of service settings (`Start`, `Type`, `ErrorControl`, `Group`,
# `Tag`, `ImagePath`) and of `ServiceGroupOrder` and `GroupOrderList`.


BOOT, SYSTEM, AUTOMATIC, DISABLED = 0, 1, 2, 4
"""When a driver or service is started: with the kernel, by the kernel, by the session, never."""
DRIVER_TYPES = {1, 2, 8}
_CRITICAL = 3
_MOST_TAGS = 4096


class Driver(msgspec.Struct, frozen=True):
    """A driver or service of a control set.

    Attributes:
        written: its image as the settings name it. path: the same on the system's volume.
        start: 0 with the kernel, 1 by the kernel, 2 by the session, 3 on demand, 4 never.
        error: 3: without it the start ends.
    """

    name: str
    written: str
    path: str
    type: int
    start: int
    error: int
    group: str
    tag: int

    @property
    def is_driver(self) -> bool:
        """Whether it runs in the kernel and is no service."""
        return self.type in DRIVER_TYPES

    @property
    def is_critical(self) -> bool:
        """Whether the start ends where it cannot be loaded."""
        return self.error == _CRITICAL


def driver_fault(
    settings: NtSettings, driver: Driver, libraries: Libraries, phase: Phase
) -> Finding | None:
    """What keeps a driver from being loaded; None where nothing does."""
    program = read_program(settings.start, driver.path)
    severity = Severity.FATAL if driver.is_critical and driver.start == BOOT else Severity.WARNING
    ends = "the start ends without it" if driver.is_critical else "the start goes on without it"
    name = f"The driver {driver.name}"
    if program is None:
        says = f"{name} has no image {driver.path}; {ends}."
        where = Where(path=driver.path)
        return nt_finding(FindingId.BOOT_DRIVER_MISSING, severity, says, where, phase=phase)
    if program.unread:
        says = f"{name} was not checked: {program.unread}."
        unread = FindingId.FILES_NOT_CHECKED
        return nt_finding(unread, Severity.NOTE, says, program.where, phase=phase)
    kind, why = _what_is_wrong(program, libraries)
    if not why:
        return None
    says = f"{name} cannot be loaded from {program.path}: {why}; {ends}."
    return nt_finding(kind, severity, says, program.where, phase=phase)


def _what_is_wrong(program: Program, libraries: Libraries) -> tuple[FindingId, str]:
    if program.why:
        return FindingId.BOOT_DRIVER_DAMAGED, program.why
    return FindingId.BOOT_DRIVER_UNLINKED, libraries.lacking(program)


def drivers_of(settings: NtSettings) -> dict[str, Driver]:
    """All drivers and services by lower-case name.

    Raises:
        DamagedHiveError: a key on the way is damaged.
    """
    services = settings.control_set.child("Services")
    found = {}
    for key in services.children() if services is not None else ():
        start = key.number("Start")
        if start is not None:
            driver = _driver(settings, key, start)
            found[key.name.lower()] = driver
    return found


def boot_drivers(settings: NtSettings, known: Mapping[str, Driver]) -> list[Driver]:
    """The boot-start drivers in the order in which they are loaded: by group as the list of groups
    has them, in a group by tag as the group's list has them; those of no listed group last.

    Raises:
        DamagedHiveError: a key on the way is damaged.
    """
    control = settings.control_set.child("Control")
    order = control.child("ServiceGroupOrder") if control is not None else None
    tags = control.child("GroupOrderList") if control is not None else None
    groups = [name.lower() for name in (order.texts("List") or () if order is not None else ())]
    ranks = {name: rank for rank, name in reversed(list(enumerate(groups)))}
    wanted = [
        driver for driver in known.values() if driver.start == BOOT and driver.type in DRIVER_TYPES
    ]
    places = {group: _tag_ranks(tags, group) for group in {driver.group for driver in wanted}}

    def rank(driver: Driver) -> tuple[int, int]:
        inside = places[driver.group]
        return ranks.get(driver.group.lower(), len(ranks)), inside.get(driver.tag, len(inside))

    return sorted(wanted, key=rank)


def _tag_ranks(tags: Key | None, group: str) -> dict[int, int]:
    raw = (tags.data(group) if tags is not None and group else None) or b""
    count = min(int.from_bytes(raw[:4], "little"), len(raw) // 4 - 1, _MOST_TAGS)
    numbers = [int.from_bytes(raw[4 * at : 4 * at + 4], "little") for at in range(1, count + 1)]
    return {number: rank for rank, number in reversed(list(enumerate(numbers)))}


def _driver(settings: NtSettings, key: Key, start: int) -> Driver:
    written = key.text("ImagePath") or ""
    return Driver(
        name=key.name,
        written=written,
        path=image_path(settings, written, key.name),
        type=key.number("Type") or 0,
        start=start,
        error=key.number("ErrorControl") or 0,
        group=key.text("Group") or "",
        tag=key.number("Tag") or 0,
    )


def image_path(settings: NtSettings, written: str, name: str) -> str:
    """The path on the system's volume that the image path of a driver means; without one it is the
    file of the driver's name in the folder of drivers.
    """
    start = settings.start
    if not written.strip():
        return start.path(f"{nt_names().drivers.folder}/{name}.sys")
    path, is_whole = start.program(written)
    return path if is_whole else start.path(path)
