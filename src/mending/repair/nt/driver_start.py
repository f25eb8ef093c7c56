"""The repair `driver-start`: a storage driver that the PC needs is started with the kernel, after
the controller's mode was changed or the drive came into another PC.

Which controller the PC has stands nowhere on the disk. A driver that finds no device does nothing,
so more than one may start.
"""

from mending.boot.nt import BOOT, Driver, NtSettings, drivers_of, read_program
from mending.knowledge.families import nt_names
from mending.model import RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import hive_changes, nt_home, nt_settings, open_system_hive

REPAIR = RepairId.DRIVER_START
_NUMBER, _OVERRIDE = 4, "StartOverride"


def propose(request: Request) -> Proposal:
    """Changes that let one driver start with the kernel.

    Raises:
        RefusedError: it is no storage driver, its file is missing or damaged, or several could be
            meant and nobody said which.
    """
    start = nt_home(request)
    settings = nt_settings(start)
    driver = _chosen(request, settings)
    program = read_program(start, driver.path)
    if program is None or program.why or program.unread:
        why = "is not there" if program is None else program.why or program.unread
        raise RefusedError(f"{driver.path}: {why}.", "Restore it first: file-restore.")
    file = open_system_hive(request, start)
    editor, path = file.editor(), f"{settings.control_set.name}\\Services\\{driver.name}"
    editor.set_value(path, "Start", _NUMBER, BOOT.to_bytes(4, "little"))
    over = settings.control_set.path("Services", driver.name, _OVERRIDE)
    for value in list(over.values()) if over is not None else ():
        editor.set_value(f"{path}\\{_OVERRIDE}", value.name, value.type, bytes(4))
    return Proposal(
        repair=REPAIR,
        says=f"{driver.name} starts with the kernel (it had start {driver.start}).",
        changes=tuple(hive_changes(request, file, editor, f"drivers in {file.path}")),
        answers=(),
        fault_after=lambda _trace: "",  # whether the PC has that controller, only a start tells
    )


def _chosen(request: Request, settings: NtSettings) -> Driver:
    known, asked = drivers_of(settings), request.settings.driver.casefold()
    idle = [driver for driver in known.values() if _is_storage(driver) and driver.start != BOOT]
    if asked:
        driver = known.get(asked)
        if driver is None or not _is_storage(driver):
            raise RefusedError(f"{request.settings.driver} is no storage driver of this system.")
        if driver.start == BOOT:
            raise RefusedError(f"{driver.name} starts with the kernel already.")
        return driver
    if not idle:
        raise RefusedError("Every storage driver of this system starts with the kernel.")
    if len(idle) > 1:
        listed = ", ".join(sorted(driver.name for driver in idle)[:8])
        raise RefusedError(
            f"Which storage driver does the PC's controller need: {listed}?",
            "Add --driver NAME; the firmware's set-up names the mode.",
            "--driver NAME",
        )
    return idle[0]


def _is_storage(driver: Driver) -> bool:
    groups = nt_names().drivers.controller_groups
    return driver.is_driver and driver.group.casefold() in groups
