"""From the loader's file to the kernel: are the loader, the kernel and its hardware layer there,
whole and for the same machine, and do they get what they want of libraries?

Programs of this family carry a checksum in their header, so damage shows without a good copy; the
loader compares it for what it loads (published PE specification, and the status that it shows).
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    OutOfReachError,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.start import (
    DRIVER_TYPES,
    SYSTEM,
    Libraries,
    NtSettings,
    NtStart,
    Program,
    boot_drivers,
    drivers_of,
    nt_finding,
    read_program,
)
from mending.boot.nt.system_hive import HiveChecks, read_settings
from mending.disk.files import FileDamagedError, FilesUnavailableError
from mending.disk.system import Catalogues, InstalledSystem
from mending.disk.volume import Volume
from mending.formats.hives import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Phase,
    Progress,
    RefusedError,
    RepairId,
    Severity,
    Where,
)

_BESIDE_BYTES, _MOST_BESIDE = 32 << 20, 500
"""Of what lies beside a manager: messages in many languages, fonts, a memory test."""
_RESTORE = (RepairId.FILE_RESTORE,)
_UNREAD = FindingId.FILES_NOT_CHECKED


def only_system(environment: BootEnvironment) -> tuple[Volume, InstalledSystem] | None:
    """The one system of this family on the disk; None where there are several: which of them
    starts is not known then.
    """
    found = [
        (volume, system)
        for volume in environment.volumes
        if not volume.extended
        for system in environment.contents(volume).systems
        if system.family == "nt"
    ]
    return found[0] if len(found) == 1 else None


def beside_manager(
    environment: BootEnvironment, volume: Volume, manager: str
) -> Iterator[tuple[str, str]]:
    """The files that a system keeps beside a manager, in its folder and one level down: path, and
    the same from that folder on.

    Args:
        manager: the path of the manager's copy.

    Raises:
        OutOfReachError, FilesUnavailableError
    """
    folder = manager.rpartition("/")[0]
    files, left, count = environment.files(volume), _BESIDE_BYTES, 0
    waiting = [(folder, "")]
    while waiting:
        path, below = waiting.pop(0)
        for file in files.listing(path):
            name = f"{below}{file.path.rpartition('/')[2]}"
            if file.is_folder and not below and not file.is_link:
                waiting.append((file.path, f"{name}/"))
            elif not file.is_folder and file.path != manager and 0 < file.bytes <= left:
                left, count = left - file.bytes, count + 1
                if count <= _MOST_BESIDE:
                    yield file.path, name


def keeps_manager(environment: BootEnvironment, path: str) -> bool:
    """Whether a system keeps a copy of the manager that boot code looks for. Args: path: there."""
    below = f"{nt_names().manager.bios_folder}/{path.rpartition('/')[2]}"
    try:
        return any(
            environment.find(volume, f"{system.title.rstrip('/')}/{below}") is not None
            for volume in environment.volumes
            if not volume.extended
            for system in environment.contents(volume).systems
            if system.family == "nt"
        )
    except OutOfReachError:
        return False


def system_start(environment: BootEnvironment) -> Link | None:
    """The checks of the only system, where no boot configuration leads to it."""
    found = only_system(environment)
    if found is None:
        return None
    volume, system = found
    return KernelChecks(NtStart(environment, volume, system.title)).kernel


class LoaderChecks:
    """The check of the loader that an entry names, on a volume that may be another than the
    system's.
    """

    def __init__(self, start: NtStart, volume: Volume, path: str) -> None:
        self._start, self._path = start, path
        self._home = msgspec.structs.replace(start, volume=volume)

    @not_followed(_UNREAD, "The loader of the system", then=lambda checks: checks._behind(0))
    def loader(self) -> CheckResult:
        """Is it there and whole?"""
        lost = self._lost_volume()
        if lost is not None:
            return failed(lost, self._behind(0))
        program = read_program(self._home, self._path)
        if program is None:
            says = f"The loader {self._path} is not on volume {self._home.volume.number}."
            missing = FindingId.SYSTEM_LOADER_MISSING
            fault = nt_finding(missing, Severity.FATAL, says, Where(path=self._path))
            return failed(fault, self._behind(0))
        if program.unread:
            return _unread(program, "The loader", self._behind(0))
        if program.why or program.image is None:
            says = f"The loader {program.path} is damaged: {program.why}."
            damaged = FindingId.SYSTEM_LOADER_DAMAGED
            fault = nt_finding(damaged, Severity.FATAL, says, program.where)
            return failed(fault, self._behind(0))
        says = f"The loader {program.path} is whole."
        return passed(Phase.LOADER, says, program.where, self._behind(program.image.machine))

    def _lost_volume(self) -> Finding | None:
        """Whether nothing on the volume can be found by anybody: its first sector or its top folder
        is damaged. What a drive cannot read, or a lock hides, is another matter.
        """
        volume = self._home.volume
        where, repairs = Where(offset=volume.offset, length=512), tuple[RepairId, ...]()
        why = ""
        if volume.filesystem in {FilesystemKind.UNKNOWN, FilesystemKind.BLANK}:
            why = "no file system begins there"
        elif volume.filesystem is FilesystemKind.NTFS and not volume.boot.readable:
            why = "its boot sector is damaged"
            backup = volume.boot.backup
            repairs = (RepairId.BOOT_SECTOR,) if backup is not None and backup.sound else ()
        else:
            try:
                self._home.environment.files(volume).listing("/")
            except FileDamagedError as error:
                why = f"its top folder is damaged: {error.says.rstrip('.')}"
            except FilesUnavailableError:
                return None
        if not why:
            return None
        says = (
            f"The boot manager finds nothing on volume {volume.number}, where the loader"
            f" {self._path} should be: {why}."
        )
        return finding(FindingId.SYSTEM_VOLUME_LOST, Severity.FATAL, says, where, repairs)

    def _behind(self, machine: int) -> Link:
        return KernelChecks(msgspec.structs.replace(self._start, machine=machine)).kernel


class KernelChecks:
    """The check of the kernel and its hardware layer."""

    def __init__(self, start: NtStart) -> None:
        self._start = start

    @not_followed(_UNREAD, "The kernel", then=lambda checks: checks._hive())
    def kernel(self) -> CheckResult:
        """Are both there and whole, and do they get what they want of libraries?"""
        names, start = nt_names().kernel, self._start
        folder = names.file.rpartition("/")[0]
        chosen = (
            (start.kernel, names.file, "The kernel"),
            (start.hardware_layer, names.hardware_layer, "The hardware layer"),
        )
        libraries, read = Libraries(start), list[Program]()
        for other, usual, what in chosen:
            path = start.path(f"{folder}/{other}" if other else usual)
            program = read_program(start, path)
            if program is None:
                says = f"{what} {path} is not there."
                where = Where(path=path)
                fault = finding(FindingId.KERNEL_MISSING, Severity.FATAL, says, where, _RESTORE)
                return failed(fault, self._hive())
            if program.unread:
                return _unread(program, what, self._hive())
            why = program.why or libraries.lacking(program)
            if why:
                says = f"{what} {program.path} cannot be used: {why}."
                kind, where = FindingId.KERNEL_DAMAGED, program.where
                fault = finding(kind, Severity.FATAL, says, where, _RESTORE)
                return failed(fault, self._hive())
            read.append(program)
        says = f"The kernel {read[0].path} and its hardware layer are whole."
        machine = read[0].image.machine if read[0].image is not None else 0
        return passed(Phase.LOADER, says, read[0].where, self._hive(machine))

    def _hive(self, machine: int = 0) -> Link:
        known = self._start.machine or machine
        return HiveChecks(msgspec.structs.replace(self._start, machine=known)).hive


def _unread(program: Program, what: str, then: Link) -> CheckResult:
    says = f"{what} {program.path} was not checked: {program.unread}."
    return not_checked(finding(_UNREAD, Severity.NOTE, says, program.where), then)


# The files without which a system of the nt family does not come to its sign-in, each judged as
# the program that loads it would judge it.


_EVERY_BYTES = 16 << 30
"""Bytes of all programs of a system together."""
_PROGRAMS = frozenset({"exe", "dll", "sys", "efi", "ocx", "cpl", "drv", "scr"})


class StartFile(msgspec.Struct, frozen=True):
    """One file.

    Attributes:
        role: what it is to the start.
        state: `sound differs missing unreadable`, as of other families.
        why: what is wrong with it; empty where nothing is.
        is_summed: whether it carries a checksum, so that damage in its middle would show.
        proof: what shows that it is sound: its `signature`, a `catalogue` of the system, its
            `header-sum`; empty where nothing does.
    """

    path: str
    role: str
    state: str
    why: str
    is_summed: bool
    proof: str = ""


def start_files(
    environment: BootEnvironment, progress: Progress, *, every: bool = False
) -> tuple[Volume, list[StartFile]] | None:
    """The files of the only system of the family; None where there is none, or several.

    Args:
        every: also all other programs, libraries and drivers beside them.

    Raises:
        RefusedError: its settings cannot be read.
        FilesUnavailableError: damage hides its files.
    """
    found = only_system(environment)
    if found is None:
        return None
    volume, system = found
    start = NtStart(environment, volume, system.title)
    kernel = read_program(start, start.path(nt_names().kernel.file))
    if kernel is not None and kernel.image is not None and not kernel.why:
        start = msgspec.structs.replace(start, machine=kernel.image.machine)
    try:
        settings = read_settings(start)
        wanted = list(dict(_wanted(settings)).items()) if settings is not None else []
        wanted += list(_others(start, wanted)) if every else []
    except (OutOfReachError, DamagedHiveError) as error:
        raise RefusedError(f"Which drivers the start needs cannot be read: {error}") from error
    if settings is None:
        says = f"The system hive of {system.title} cannot be used; `mending trace` says why."
        raise RefusedError(says, "Mend the hive first.")
    lists = start.path(nt_names().catalogues.folder)
    catalogues = Catalogues(environment.files(volume), lists)
    libraries, listed = Libraries(start), list[StartFile]()
    newer = {start.path(each) for each in nt_names().session.newer}
    for number, (path, role) in enumerate(wanted):
        progress(number, len(wanted))
        judged = _judged(start, path, role, libraries if role else None, catalogues)
        if judged.state != "missing" or path not in newer:  # older systems do without those
            listed.append(judged)
    return volume, listed


def _wanted(settings: NtSettings) -> Iterator[tuple[str, str]]:
    names, start = nt_names(), settings.start
    yield start.path(names.kernel.file), "kernel"
    yield start.path(names.kernel.hardware_layer), "hardware layer"
    known = drivers_of(settings)
    for driver in boot_drivers(settings, known):
        yield driver.path, f"driver {driver.name}, loaded with the kernel"
    for driver in known.values():
        if driver.start == SYSTEM and driver.type in DRIVER_TYPES:
            yield driver.path, f"driver {driver.name}, loaded by the kernel"
    for path in (*names.session.programs, *names.session.newer):
        yield start.path(path), "program of the session"


def _others(start: NtStart, listed: list[tuple[str, str]]) -> Iterator[tuple[str, str]]:
    """Programs that no start needs, without a role; the room for bytes grows with them."""
    start.shared.left = _EVERY_BYTES
    known = {path.casefold() for path, _ in listed}
    files = start.environment.files(start.volume)
    for name in nt_names().kernel.library_folders:
        home = files.find(start.path(name))
        for found in files.listing(home.path) if home is not None and home.is_folder else ():
            ending = found.path.rpartition(".")[2].casefold()
            if ending in _PROGRAMS and not found.is_folder and found.path.casefold() not in known:
                yield found.path, ""


def _judged(
    start: NtStart, path: str, role: str, libraries: Libraries | None, catalogues: Catalogues
) -> StartFile:
    # What no start needs may well be made for another machine: such a PC runs programs of both.
    start = start if role else msgspec.structs.replace(start, machine=0)
    program = read_program(start, path)
    if program is None:
        return StartFile(path, role, "missing", "it is not there", False)
    if program.unread:
        return StartFile(program.path, role, "unreadable", program.unread, False)
    why = program.why or (libraries.lacking(program) if libraries is not None else "")
    if why:
        return StartFile(program.path, role, "differs", why, program.is_summed)
    proof = "signature" if program.is_signed else ""
    proof = proof or ("catalogue" if catalogues.know(program.data) else "")
    proof = proof or ("header-sum" if program.is_summed else "")
    return StartFile(program.path, role, "sound", "", program.is_summed, proof)
