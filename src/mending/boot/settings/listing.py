"""The settings of one moment as a list, each in plain words.

Sources: published documentation of the settings of services (`Start`, `Type`, `ErrorControl`,
`Group`, `ImagePath`), of class filters, of the session's programs, of installed programs and their
uninstallers, and of installed packages of updates.
"""

import uuid
from collections.abc import Callable, Iterator

import msgspec

from mending.boot.settings.hive_set import HiveSet
from mending.disk.hives import Hive, control_set, current_versions
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import clean_text

_STARTS = {
    0: "starts with the kernel",
    1: "is started by the kernel",
    2: "is started by the session",
    3: "is started on demand",
    4: "is switched off",
}
_DRIVERS, _EARLY, _CRITICAL = {1, 2, 8}, {0, 1}, 3
_ERRORS = {3: "the start ends without it"}
_FILTERS = ("UpperFilters", "LowerFilters")
_SESSION = ("BootExecute", "SetupExecute", "PendingFileRenameOperations")
_PACKAGE_STATES = {0x70: "installed", 0x60: "waits for a restart", 0x50: "staged", 0x20: "staged"}
_BY_GUID, _BY_PLACE = b"DMIO:ID:", 12
_MOST, _LONGEST = 200_000, 200


class Setting(msgspec.Struct, frozen=True):
    """One setting.

    Attributes:
        kind: `driver service filter session set-up control-set letter sign-in start-up program
            update device`.
        decides: whether the start depends on it.
    """

    kind: str
    name: str
    says: str
    decides: bool


def listed(hives: HiveSet) -> tuple[dict[tuple[str, str], Setting], tuple[str, ...]]:
    """Every setting by kind and name, drivers among the services, and what could not be read."""
    found: dict[tuple[str, str], Setting] = {}
    notes = []
    for hive, name, parts in (
        (hives.system, "system", _OF_SYSTEM),
        (hives.programs, "software", _OF_PROGRAMS),
    ):
        for part in parts if hive is not None else ():
            try:
                for setting in part(hive) if hive is not None else ():
                    kind = "service" if setting.kind == "driver" else setting.kind
                    found[kind, setting.name.casefold()] = setting
                    if len(found) >= _MOST:
                        break
            except DamagedHiveError as error:
                notes.append(f"The hive {name} is damaged: {error.says}")
    return found, tuple(dict.fromkeys(notes))


def _services(hive: Hive) -> Iterator[Setting]:
    chosen = control_set(hive.root)
    services = chosen.child("Services") if chosen is not None else None
    for key in services.children() if services is not None else ():
        start = key.number("Start")
        if start is None:
            continue
        kind = key.number("Type") or 0
        image, group = key.text("ImagePath") or "", key.text("Group") or ""
        error = key.number("ErrorControl") or 0
        told = [_STARTS.get(start, f"start {start}"), image, group and f"group {group}"]
        told += [_ERRORS.get(error, "")] if start in _EARLY else []
        is_driver = kind in _DRIVERS
        decides = is_driver and start in _EARLY
        yield _setting("driver" if is_driver else "service", key.name, told, decides)


def _filters(hive: Hive) -> Iterator[Setting]:
    chosen = control_set(hive.root)
    classes = chosen.path("Control", "Class") if chosen is not None else None
    for key in classes.children() if classes is not None else ():
        for name in _FILTERS:
            filters = key.texts(name)
            if filters:
                called = key.text("Class") or key.name
                yield _setting("filter", f"{called} {name}", list(filters), True)


def _session(hive: Hive) -> Iterator[Setting]:
    chosen = control_set(hive.root)
    session = chosen.path("Control", "Session Manager") if chosen is not None else None
    for name in _SESSION if session is not None else ():
        rows = session.texts(name) if session is not None else None
        if rows:
            yield _setting("session", name, list(rows[:4]), True)
    select, setup = hive.root.child("Select"), hive.root.child("Setup")
    for name in ("Current", "Default", "LastKnownGood", "Failed"):
        number = select.number(name) if select is not None else None
        if number is not None:
            yield _setting("control-set", name, [str(number)], True)
    for name in ("SystemSetupInProgress", "SetupType"):
        number = setup.number(name) if setup is not None else None
        if number is not None:
            yield _setting("set-up", name, [str(number)], True)
    line = setup.text("CmdLine") if setup is not None else None
    if line:
        yield _setting("set-up", "CmdLine", [line], True)


def _letters(hive: Hive) -> Iterator[Setting]:
    devices = hive.root.child("MountedDevices")
    for value in devices.values() if devices is not None else ():
        letter = value.name.rpartition("\\")[2]
        if value.name.upper().startswith("\\DOSDEVICES\\") and devices is not None:
            bound = _bound(devices.data(value.name) or b"")
            yield _setting("letter", letter, [f"bound to {bound}"], True)


def _bound(data: bytes) -> str:
    """What a letter is bound to: a partition by its identifier, or a place on a disk of a
    signature; else the bytes.
    """
    if data.startswith(_BY_GUID) and len(data) == len(_BY_GUID) + 16:
        return f"partition {uuid.UUID(bytes_le=data[len(_BY_GUID) :])}"
    if len(data) == _BY_PLACE:
        disk, at = int.from_bytes(data[:4], "little"), int.from_bytes(data[4:], "little")
        return f"byte {at} of disk {disk:08x}"
    return data[:24].hex(" ", 4)


def _devices(hive: Hive) -> Iterator[Setting]:
    chosen = control_set(hive.root)
    buses = chosen.child("Enum") if chosen is not None else None
    for bus in buses.children() if buses is not None else ():
        for device in bus.children():
            for instance in device.children():
                called = instance.text("FriendlyName") or instance.text("DeviceDesc") or ""
                driver = instance.text("Service") or ""
                told = [called.rpartition(";")[2], driver and f"driver {driver}"]
                name = f"{bus.name}\\{device.name}\\{instance.name}"
                yield _setting("device", name, told, False)


def _programs(hive: Hive) -> Iterator[Setting]:
    for current in current_versions(hive.root):
        listed_ones = current.child("Uninstall")
        for key in listed_ones.children() if listed_ones is not None else ():
            called = key.text("DisplayName")
            if called:
                told = [key.text("DisplayVersion") or "", _day(key.text("InstallDate") or "")]
                yield _setting("program", called, told, False)
        packages = current.path("Component Based Servicing", "Packages")
        for key in packages.children() if packages is not None else ():
            state = key.number("CurrentState")
            if state is not None and not key.name.startswith("~"):
                told = [_PACKAGE_STATES.get(state, f"state {state:#x}")]
                yield _setting("update", key.name.partition("~")[0], told, False)


def _sign_in(hive: Hive) -> Iterator[Setting]:
    for current in current_versions(hive.root):
        sign_in = current.child("Winlogon")
        for name in ("Userinit", "Shell") if sign_in is not None else ():
            line = sign_in.text(name) if sign_in is not None else None
            if line:
                yield _setting("sign-in", name, [line], True)
        for run in ("Run", "RunOnce"):
            key = current.child(run)
            for value in key.values() if key is not None else ():
                line = key.text(value.name) if key is not None else None
                if line:
                    told = [line, "once" if run == "RunOnce" else ""]
                    yield _setting("start-up", value.name, told, False)


def _day(text: str) -> str:
    """A date as programs leave it: eight digits."""
    return f"since {text[:4]}-{text[4:6]}-{text[6:]}" if len(text) == 8 and text.isdigit() else ""


def _setting(kind: str, name: str, told: list[str], decides: bool) -> Setting:
    says = clean_text("; ".join(filter(None, told)), _LONGEST)
    return Setting(kind, clean_text(name, _LONGEST), says, decides)


_Part = Callable[[Hive], Iterator[Setting]]
_OF_SYSTEM: tuple[_Part, ...] = (_services, _filters, _session, _letters, _devices)
_OF_PROGRAMS: tuple[_Part, ...] = (_sign_in, _programs)
