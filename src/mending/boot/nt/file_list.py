"""The files without which a system of the nt family does not come to its sign-in, each judged as
the program that loads it would judge it.
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError
from mending.boot.nt.kernel_files import only_system
from mending.boot.nt.services import DRIVER_TYPES, SYSTEM, boot_drivers, drivers_of
from mending.boot.nt.start import Libraries, NtSettings, NtStart, read_program
from mending.boot.nt.system_hive import read_settings
from mending.disk.system import Catalogues
from mending.disk.volume import Volume
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Progress, RefusedError

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
