"""The repair `driver-off`: a driver, service or class filter that stops the start is turned off.

What the start depends on is never touched: by its group, by what the devices of classes before the
system's volume use, by being a file system, by what its own image is to a filter that lost its
entry. A driver that is off is taken out of the filters, too, for a filter that is off stops every
device of its class.
"""

from collections.abc import Iterator

from mending.boot.nt import BOOT, DISABLED, Driver, NtSettings, drivers_of
from mending.disk.hives import HiveEditor, Key
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, RefusedError, RepairId, capital
from mending.repair.base import Proposal, Request
from mending.repair.files import hive_changes, nt_home, nt_settings, open_system_hive

REPAIR = RepairId.DRIVER_OFF
_FILTERS = ("UpperFilters", "LowerFilters")
_NUMBER, _TEXTS = 4, 7
_FILE_SYSTEMS = {2, 8}
_FAULTS = (
    FindingId.BOOT_DRIVER_MISSING,
    FindingId.BOOT_DRIVER_DAMAGED,
    FindingId.BOOT_DRIVER_UNLINKED,
)
_MOST_DEVICES = 20_000


def propose(request: Request) -> Proposal:
    """Changes that turn drivers and filters off.

    Raises:
        RefusedError: the start depends on it, there is none such, or a person has to choose.
    """
    start = nt_home(request)
    settings = nt_settings(start)
    known = drivers_of(settings)
    asked = request.settings.driver.casefold()
    names = [asked] if asked else _called_for(request, settings, known)
    if not names:
        raise RefusedError(
            "No driver stops the start that it could do without.",
            "Name one: --driver NAME.",
            "--driver NAME",
        )
    file = open_system_hive(request, start)
    editor, told = file.editor(), list[str]()
    for name in names:
        driver = known.get(name)
        why = _needed(settings, driver) if driver is not None else ""
        if why:
            raise RefusedError(f"{name} is not turned off: {why}.", "Restore its file instead.")
        told += _turned_off(editor, settings, name, driver)
    if not told:
        raise RefusedError(f"{names[0]} is no driver, service or filter that is on.")
    return Proposal(
        repair=REPAIR,
        says=f"{capital('; '.join(told))}.",
        changes=tuple(hive_changes(request, file, editor, f"drivers in {file.path}")),
        answers=tuple(_answered(request, known, names)),
        fault_after=lambda _trace: "",
    )


def _called_for(request: Request, settings: NtSettings, known: dict[str, Driver]) -> list[str]:
    """The drivers and filters that the findings stop at."""
    stopping = {finding.where.path for finding in request.calling_for(REPAIR)}
    found = [
        name
        for name, driver in known.items()
        if driver.start == BOOT and driver.path in stopping and not _needed(settings, driver)
    ]
    if request.found(FindingId.CLASS_FILTER_GONE):
        for _, _, name in _lost_filters(settings, known):
            image = settings.start.path(f"{nt_names().drivers.folder}/{name}.sys")
            if settings.start.environment.find(settings.start.volume, image) is not None:
                raise RefusedError(
                    f"The filter {name} has no entry, but its file is there: is it one of a program"
                    " that was removed?",
                    f"If so, add --driver {name}; if not, put the hives back (hive-set).",
                    f"--driver {name}",
                )
            found.append(name.casefold())
    return list(dict.fromkeys(found))


def _lost_filters(settings: NtSettings, known: dict[str, Driver]) -> Iterator[tuple[str, str, str]]:
    wanted = {each.guid for each in nt_names().classes}
    for guid, key in _classes(settings):
        for kind in _FILTERS if guid.casefold() in wanted else ():
            for name in key.texts(kind) or ():
                if name.casefold() not in known:
                    yield guid, kind, name


def _needed(settings: NtSettings, driver: Driver) -> str:
    """Why a start depends on a driver; empty where nothing says so."""
    if driver.type in _FILE_SYSTEMS and driver.start == BOOT:
        return "it reads the system's volume"
    if not driver.is_driver:
        return ""
    if driver.group.casefold() in nt_names().drivers.needed_groups:
        return f"its group is {driver.group}"
    wanted = {each.guid for each in nt_names().classes}
    for _, key in _devices(settings):
        guid, service = key.text("ClassGUID") or "", key.text("Service") or ""
        if service.casefold() == driver.name.casefold() and guid.casefold() in wanted:
            return f"the device {key.name} between kernel and disk uses it"
    return ""


def _turned_off(
    editor: HiveEditor, settings: NtSettings, name: str, driver: Driver | None
) -> list[str]:
    chosen, told = settings.control_set.name, []
    if driver is not None and driver.start != DISABLED:
        path = f"{chosen}\\Services\\{driver.name}"
        editor.set_value(path, "Start", _NUMBER, DISABLED.to_bytes(4, "little"))
        told.append(f"turns {driver.name} off (it had start {driver.start})")
    for path, key in _filtered(settings):
        for kind in _FILTERS:
            listed = key.texts(kind) or ()
            left = [each for each in listed if each.casefold() != name]
            if len(left) == len(listed):
                continue
            if left:
                raw = "".join(f"{each}\0" for each in [*left, ""]).encode("utf-16-le")
                editor.set_value(path, kind, _TEXTS, raw)
            else:
                editor.remove_value(path, kind)
            told.append(f"takes {name} out of the filters of {key.text('Class') or key.name}")
    return told


def _filtered(settings: NtSettings) -> Iterator[tuple[str, Key]]:
    """Paths and keys of classes and devices that name filters."""
    chosen = settings.control_set.name
    for guid, key in _classes(settings):
        yield f"{chosen}\\Control\\Class\\{guid}", key
    for path, instance in _devices(settings):
        if any(instance.texts(kind) for kind in _FILTERS):
            yield f"{chosen}\\Enum\\{path}", instance


def _classes(settings: NtSettings) -> Iterator[tuple[str, Key]]:
    classes = settings.control_set.path("Control", "Class")
    for key in classes.children() if classes is not None else ():
        yield key.name, key


def _devices(settings: NtSettings) -> Iterator[tuple[str, Key]]:
    enum, count = settings.control_set.child("Enum"), 0
    for bus in enum.children() if enum is not None else ():
        for device in bus.children():
            for instance in device.children():
                count += 1
                if count > _MOST_DEVICES:
                    return
                yield f"{bus.name}\\{device.name}\\{instance.name}", instance


def _answered(request: Request, known: dict[str, Driver], names: list[str]) -> Iterator[Finding]:
    paths = {known[name].path.casefold() for name in names if name in known}
    for finding in request.found(*_FAULTS):
        if (finding.where.path or "").casefold() in paths:
            yield finding
    for finding in request.found(FindingId.CLASS_FILTER_GONE):
        if any(name in finding.says.casefold() for name in names):
            yield finding
