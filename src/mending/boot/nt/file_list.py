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
from mending.disk.volume import Volume
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Progress, RefusedError


class StartFile(msgspec.Struct, frozen=True):
    """One file.

    Attributes:
        role: what it is to the start.
        state: `sound differs missing unreadable`, as of other families.
        why: what is wrong with it; empty where nothing is.
        is_summed: whether it carries a checksum, so that damage in its middle would show.
    """

    path: str
    role: str
    state: str
    why: str
    is_summed: bool


def start_files(
    environment: BootEnvironment, progress: Progress
) -> tuple[Volume, list[StartFile]] | None:
    """The files of the only system of the family; None where there is none, or several.

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
    except (OutOfReachError, DamagedHiveError) as error:
        raise RefusedError(f"Which drivers the start needs cannot be read: {error}") from error
    if settings is None:
        says = f"The system hive of {system.title} cannot be used; `mending trace` says why."
        raise RefusedError(says, "Mend the hive first.")
    libraries, listed = Libraries(start), list[StartFile]()
    newer = {start.path(each) for each in nt_names().session.newer}
    for number, (path, role) in enumerate(wanted):
        progress(number, len(wanted))
        judged = _judged(start, path, role, libraries)
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


def _judged(start: NtStart, path: str, role: str, libraries: Libraries) -> StartFile:
    program = read_program(start, path)
    if program is None:
        return StartFile(path, role, "missing", "it is not there", False)
    if program.unread:
        return StartFile(program.path, role, "unreadable", program.unread, False)
    why = program.why or libraries.lacking(program)
    state = "differs" if why else "sound"
    return StartFile(program.path, role, state, why, program.is_summed)
