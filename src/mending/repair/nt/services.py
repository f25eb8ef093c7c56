"""The repair `start-setting`: what decides the next start, set by what is needed and taken out
again.

Some of it is kept in the boot configuration, some in the system's settings. Without a wish, what
was left behind of earlier ones is taken out.
"""

from collections.abc import Callable, Iterator, Mapping

from mending.boot.chain import Trace
from mending.boot.nt import (
    BOOT,
    DISABLED,
    Driver,
    NtSettings,
    NtStart,
    current_version,
    drivers_of,
    letter_of,
    letter_place,
    lost_filters,
    own_names,
    read_program,
)
from mending.disk.hives import Hive, HiveEditor, Key
from mending.formats import boot_store as store
from mending.knowledge.families import nt_names
from mending.model import Change, Finding, FindingId, RefusedError, RepairId, UsageError, capital
from mending.repair.base import Proposal, Request
from mending.repair.files import put_aside
from mending.repair.nt.changing import (
    ELEMENT,
    PROGRAMS_HIVE,
    HiveFile,
    default_entry,
    element_path,
    hive_changes,
    nt_home,
    nt_settings,
    open_store,
    open_system_hive,
    set_element,
)

START_SETTING = RepairId.START_SETTING
USUAL = "usual"
_NUMBER = 4
_FEWEST, _RECORD = 0x2500_0080, 0x2600_0090
_CRASHES, _STAYS = "Control\\CrashControl", "AutoReboot"
_POWER, _HYBRID = "Control\\Session Manager\\Power", "HiberbootEnabled"
_MEMORY = "Control\\Session Manager\\Memory Management"
_CHECKED = ("VerifyDriverLevel", "VerifyDrivers")
_TEMPORARY = (_FEWEST, _RECORD)
_MOST_INHERITED = 16

_Edit = Callable[[HiveEditor, str], None]
"""Takes the control set, or the entry of the boot configuration."""


def _number(path: str, name: str, value: int) -> _Edit:
    def edit(editor: HiveEditor, chosen: str) -> None:
        editor.add_key(f"{chosen}\\{path}")
        raw = value.to_bytes(4, "little")
        editor.set_value(f"{chosen}\\{path}", name, _NUMBER, raw)

    return edit


def _element(element: int, value: bytes) -> _Edit:
    return lambda editor, entry: set_element(editor, entry, element, value)


def _without(*elements: int) -> _Edit:
    def edit(editor: HiveEditor, entry: str) -> None:
        for identity in _with_inherited(editor.hive, entry):
            for element in elements:
                path = element_path(identity, element)
                if editor.hive.find(path) is not None:
                    editor.remove_key(path)

    return edit


IN_STORE: Mapping[str, _Edit] = {
    "fewest-drivers": _element(_FEWEST, bytes(8)),
    "record-loaded": _element(_RECORD, b"\1"),
    USUAL: _without(*_TEMPORARY),
}
IN_HIVE: Mapping[str, _Edit] = {
    "stop-stays": _number(_CRASHES, _STAYS, 0),
    "no-hybrid": _number(_POWER, _HYBRID, 0),
    USUAL: _number(_CRASHES, _STAYS, 1),
}
_SAYS = {
    "fewest-drivers": "The next start loads only the drivers that it must",
    "record-loaded": "The next start keeps a record of what was loaded",
    "stop-stays": "A stop screen stays until somebody turns the PC off",
    "no-hybrid": "Shutting down ends the system for good, and nothing is kept for the next start",
    USUAL: "The next start is a usual one: temporary settings are put back",
}


def propose_start_setting(request: Request) -> Proposal:
    """Changes of the boot configuration and of the system's settings.

    Raises:
        UsageError: no such wish.
        RefusedError: all is so already, or a guard says no.
    """
    want = request.settings.want
    if want and want not in _SAYS:
        raise UsageError(f"{want!r} cannot be set for a start.", f"Known: {', '.join(_SAYS)}.")
    changes = _wished(request, want) if want else _left_over(request)
    if not changes:
        raise RefusedError("That is so already, or nothing was left behind.", "Nothing is written.")
    answers = request.found(FindingId.START_SETTING_LEFT, FindingId.DRIVER_CHECKING_LEFT_ON)
    says = _SAYS.get(want, "Takes out what was left behind of earlier starts")
    return Proposal(
        repair=START_SETTING,
        says=f"{says}.",
        changes=tuple(changes),
        answers=answers if not want else (),
        fault_after=lambda _trace: "",
    )


def _wished(request: Request, want: str) -> list[Change]:
    changes = list[Change]()
    if want in IN_STORE:
        changes += _in_store(request, IN_STORE[want])
    if want in IN_HIVE:
        changes += _in_hive(request, nt_home(request), IN_HIVE[want])
    return changes


def _left_over(request: Request) -> list[Change]:
    changes = list[Change]()
    if request.found(FindingId.START_SETTING_LEFT):
        left = [setting.element for setting in nt_names().settings]
        changes += _in_store(request, _without(*left))
    if request.found(FindingId.DRIVER_CHECKING_LEFT_ON):
        changes += _in_hive(request, nt_home(request), _no_checks)
    return changes


def _no_checks(editor: HiveEditor, chosen: str) -> None:
    for name in _CHECKED:
        key = editor.hive.find(f"{chosen}\\{_MEMORY}")
        if key is not None and key.value(name) is not None:
            editor.remove_value(f"{chosen}\\{_MEMORY}", name)


def _in_store(request: Request, edit: _Edit) -> list[Change]:
    file = open_store(request)
    editor = file.editor()
    entry = default_entry(Hive(file.after.data))
    if not entry:
        raise RefusedError(f"{file.path} names no entry to start.", "Mend it first: boot-entries.")
    edit(editor, entry)
    if not editor.touched:
        return []
    return hive_changes(request, file, editor, f"{ELEMENT.lower()}s of an entry in {file.path}")


def _in_hive(request: Request, start: NtStart, edit: _Edit) -> list[Change]:
    file = open_system_hive(request, start)
    editor = file.editor()
    edit(editor, nt_settings(start).control_set.name)
    if not editor.touched:
        return []
    return hive_changes(request, file, editor, f"settings of a start in {file.path}")


def _with_inherited(hive: Hive, entry: str) -> list[str]:
    """An entry and the objects that it inherits from."""
    found, waiting = list[str](), [entry]
    while waiting and len(found) < _MOST_INHERITED:
        identity = waiting.pop(0)
        if identity.casefold() in map(str.casefold, found):
            continue
        found.append(identity)
        key = hive.find(element_path(identity, store.INHERITS))
        waiting += (key.texts(ELEMENT) or ()) if key is not None else ()
    return found


# The repair `driver-start`: a storage driver that the PC needs is started with the kernel, after
# the controller's mode was changed or the drive came into another PC.
#
# Which controller the PC has stands nowhere on the disk. A driver that finds no device does
# nothing, so more than one may start.


DRIVER_START = RepairId.DRIVER_START
_DRIVER_START_NUMBER, _OVERRIDE = 4, "StartOverride"


def propose_driver_start(request: Request) -> Proposal:
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
    editor.set_value(path, "Start", _DRIVER_START_NUMBER, BOOT.to_bytes(4, "little"))
    over = settings.control_set.path("Services", driver.name, _OVERRIDE)
    for value in list(over.values()) if over is not None else ():
        editor.set_value(f"{path}\\{_OVERRIDE}", value.name, value.type, bytes(4))
    return Proposal(
        repair=DRIVER_START,
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


# The repair `driver-off`: a driver, service or class filter that stops the start is turned off.
#
# What the start depends on is never touched: by its group, by what the devices of classes before
# the system's volume use, by being a file system, by what its own image is to a filter that lost
# its entry. A driver that is off is taken out of the filters, too, for a filter that is off stops
# every device of its class.


DRIVER_OFF = RepairId.DRIVER_OFF
_FILTERS = ("UpperFilters", "LowerFilters")
_DRIVER_OFF_NUMBER, _TEXTS = 4, 7
_FILE_SYSTEMS = {2, 8}
_FAULTS = (
    FindingId.BOOT_DRIVER_MISSING,
    FindingId.BOOT_DRIVER_DAMAGED,
    FindingId.BOOT_DRIVER_UNLINKED,
)
_MOST_DEVICES = 20_000


def propose_driver_off(request: Request) -> Proposal:
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
        repair=DRIVER_OFF,
        says=f"{capital('; '.join(told))}.",
        changes=tuple(hive_changes(request, file, editor, f"drivers in {file.path}")),
        answers=tuple(_answered(request, settings, known, names)),
        fault_after=lambda _trace: "",
    )


def _called_for(request: Request, settings: NtSettings, known: dict[str, Driver]) -> list[str]:
    """The drivers and filters that the findings stop at."""
    stopping = {finding.where.path for finding in request.calling_for(DRIVER_OFF)}
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
        editor.set_value(path, "Start", _DRIVER_OFF_NUMBER, DISABLED.to_bytes(4, "little"))
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


def _answered(
    request: Request, settings: NtSettings, known: dict[str, Driver], names: list[str]
) -> Iterator[Finding]:
    paths = {known[name].path.casefold() for name in names if name in known}
    for finding in request.found(*_FAULTS):
        if (finding.where.path or "").casefold() in paths:
            yield finding
    for filter_name, finding in lost_filters(settings, known):
        if filter_name.casefold() in names and finding in request.trace.findings:
            yield finding


# The repair `control-set`: the system starts with another sound control set. None is deleted.


CONTROL_SET = RepairId.CONTROL_SET
_SELECT, _LAST_GOOD = "Select", "LastKnownGood"
_MOST_SETS = 16


def propose_control_set(request: Request) -> Proposal:
    """Changes of the key that selects the control set.

    Raises:
        RefusedError: the present one is sound, no other is, or several are and nothing tells which
            was good last.
    """
    file = open_system_hive(request, nt_home(request))
    hive = Hive(file.after.data)
    select = hive.root.child(_SELECT)
    if select is None:
        raise RefusedError("The hive has no key that selects a control set.", "hive-set is left.")
    now = select.number("Current") or 0
    sound = [number for number in range(1, _MOST_SETS) if _is_sound(hive, number)]
    if now in sound and not request.settings.anyway:
        raise RefusedError(
            f"Control set {now}, which is selected, has its services and settings.",
            "Add --anyway to start with another one.",
            "--anyway",
        )
    wanted = _wanted(select, [number for number in sound if number != now])
    editor = file.editor()
    values = {"Current": wanted, "Default": wanted, "Failed": now}
    for name, number in values.items():
        editor.set_value(_SELECT, name, _NUMBER, number.to_bytes(4, "little"))
    says = f"the selected control set in {file.path}"
    return Proposal(
        repair=CONTROL_SET,
        says=f"Lets the system start with control set {wanted} instead of {now}.",
        changes=tuple(hive_changes(request, file, editor, says)),
        answers=request.found(FindingId.CONTROL_SET_MISSING),
        fault_after=_gone,
    )


def _wanted(select: Key, others: list[int]) -> int:
    last_good = select.number(_LAST_GOOD) or 0
    if last_good in others:
        return last_good
    if not others:
        raise RefusedError("The hive holds no other sound control set.", "hive-set is left.")
    if len(others) > 1:
        listed = ", ".join(map(str, others))
        raise RefusedError(
            f"Control sets {listed} are sound, and nothing tells which of them was good last.",
            "hive-set is left.",
        )
    return others[0]


def _is_sound(hive: Hive, number: int) -> bool:
    """Whether a control set has services of which some start with the kernel, and settings."""
    key = hive.root.child(f"ControlSet{number:03}")
    services = key.child("Services") if key is not None else None
    if key is None or services is None or key.child("Control") is None:
        return False
    return any(service.number("Start") == 0 for service in services.children())


def _gone(trace: Trace) -> str:
    left = [each for each in trace.findings if each.id == FindingId.CONTROL_SET_MISSING]
    return left[0].says if left else ""


# The repair `pending-drop`: a half-done update, a queue of renames or an unfinished set-up set
# aside, complete, so that it can be put back. Nothing of it is deleted: files keep their bytes
# under a free name beside, values theirs in the same key.


PENDING_DROP = RepairId.PENDING_DROP
_HALF_DONE = "winsxs/pending.xml"
_SESSION = "Control\\Session Manager"
_QUEUES = ("PendingFileRenameOperations", "PendingFileRenameOperations2", "SetupExecute")
_SETUP = ("SystemSetupInProgress", "SetupType", "CmdLine")
_ASIDE = "aside"


def propose_pending_drop(request: Request) -> Proposal:
    """Changes that set it aside.

    Raises:
        RefusedError: nothing is half done, or a guard says no.
    """
    start = nt_home(request)
    settings, file = nt_settings(start), open_system_hive(request, start)
    editor, told = file.editor(), list[str]()
    session = f"{settings.control_set.name}\\{_SESSION}"
    told += _queues(editor, settings.hive.find(session), session)
    told += _set_up(editor, settings.hive.find("Setup"))
    changes = [*_half_done(request, start, told), *_pending_drop_in_hive(request, file, editor)]
    if not changes:
        raise RefusedError("No update, set-up or rename waits here.", "Nothing is written.")
    return Proposal(
        repair=PENDING_DROP,
        says=f"Sets aside {', '.join(told)}.",
        changes=tuple(changes),
        answers=(),
        fault_after=lambda _trace: "",
    )


def _pending_drop_in_hive(request: Request, file: HiveFile, editor: HiveEditor) -> list[Change]:
    if not editor.touched:
        return []
    return hive_changes(request, file, editor, f"what waits in {file.path}")


def _queues(editor: HiveEditor, key: Key | None, path: str) -> list[str]:
    told = []
    for name in _QUEUES if key is not None else ():
        value = key.value(name) if key is not None else None
        data = key.data(name) if key is not None else None
        if value is None or data is None or not (key.texts(name) if key is not None else None):
            continue
        editor.set_value(path, _free(key, value.name), value.type, data)
        editor.remove_value(path, value.name)
        told.append(value.name)
    return told


def _set_up(editor: HiveEditor, key: Key | None) -> list[str]:
    if key is None or not (key.number("SystemSetupInProgress") or key.number("SetupType")):
        return []
    for name in _SETUP:
        value, data = key.value(name), key.data(name)
        if value is None or data is None:
            continue
        editor.set_value("Setup", _free(key, value.name), value.type, data)
        nothing = bytes(4) if value.type == _NUMBER else bytes(2)
        editor.set_value("Setup", value.name, value.type, nothing)
    return ["an unfinished set-up"]


def _free(key: Key | None, name: str) -> str:
    """A name beside that no value has."""
    number, found = 1, f"{name}.{_ASIDE}"
    while key is not None and key.value(found) is not None:
        number += 1
        found = f"{name}.{_ASIDE}{number}"
    return found


def _half_done(request: Request, start: NtStart, told: list[str]) -> list[Change]:
    found = request.environment.find(start.volume, start.path(_HALF_DONE))
    if found is None:
        return []
    told.append(found.path)
    return put_aside(request, start.volume, [found.path], _ASIDE)


# The repair `sign-in-program`: the programs that the settings name for a sign-in set to the
# system's own, where they were replaced or lost.


SIGN_IN_PROGRAM = RepairId.SIGN_IN_PROGRAM
_TEXT = 1
_KINDS = (FindingId.SIGN_IN_PROGRAM_MISSING, FindingId.SIGN_IN_PROGRAM_ADDED)


def propose_sign_in_program(request: Request) -> Proposal:
    """Changes of what the settings name.

    Raises:
        RefusedError: they name the system's own, or those are not there to be named.
    """
    start, names = nt_home(request), nt_names().sign_in
    file = open_system_hive(request, start, PROGRAMS_HIVE)
    hive = Hive(file.after.data)
    current = current_version(hive)
    key = current.child(names.key) if current is not None else None
    if current is None or key is None:
        raise RefusedError("The settings of a sign-in cannot be found.", "hive-set is left.")
    folder = (current.text("SystemRoot") or "").rstrip("\\")
    wanted = {
        names.programs: (f"{folder}\\{names.own_programs}".replace("/", "\\"), names.own_programs),
        names.shell: (names.own_shell, names.own_shell),
    }
    editor, path, told = file.editor(), _path(hive, key), []
    for value, (line, program) in wanted.items():
        written = key.text(value) or ""
        if _first(written).casefold() == line.casefold() and not _more(written):
            continue
        found = read_program(start, start.path(program))
        if found is None or found.why:
            raise RefusedError(
                f"{start.path(program)}, the system's own, is missing or damaged.",
                "Restore it first: file-restore.",
            )
        end = "," if value == names.programs else ""
        editor.set_value(path, _name(key, value), _TEXT, f"{line}{end}\0".encode("utf-16-le"))
        told.append(f"{value} names {line} instead of {written or 'nothing'}")
    if not told:
        raise RefusedError("A sign-in runs the system's own programs.", "Nothing is written.")
    return Proposal(
        repair=SIGN_IN_PROGRAM,
        says=f"{capital('; '.join(told))}.",
        changes=tuple(hive_changes(request, file, editor, f"sign-in in {file.path}")),
        answers=request.found(*_KINDS),
        fault_after=lambda _trace: "",
    )


def _first(written: str) -> str:
    return written.partition(",")[0].strip()


def _more(written: str) -> bool:
    return any(part.strip() for part in written.split(",")[1:])


def _name(key: Key, name: str) -> str:
    """The name of a value as it is written there."""
    value = key.value(name)
    return value.name if value is not None else name.capitalize()


def _path(hive: Hive, key: Key) -> str:
    """The path of a key two levels below a maker."""
    for maker in hive.root.children():
        for system in maker.children():
            current = system.child(nt_names().sign_in.current)
            inner = current.child(nt_names().sign_in.key) if current is not None else None
            if current is not None and inner is not None and inner.at == key.at:
                return f"{maker.name}\\{system.name}\\{current.name}\\{inner.name}"
    raise RefusedError("The settings of a sign-in cannot be found.")


# The repair `drive-letter`: the letter by which the system names its own folder led back to its
# volume; what had it is given the letter that the volume had meanwhile.


DRIVE_LETTER = RepairId.DRIVE_LETTER
_BINARY = 3


def propose_drive_letter(request: Request) -> Proposal:
    """Changes of the letters that the settings keep.

    Raises:
        RefusedError: the letter is right, or what it should be cannot be told.
    """
    start = nt_home(request)
    settings = nt_settings(start)
    programs = open_system_hive(request, start, PROGRAMS_HIVE)
    letter = letter_of(current_version(Hive(programs.after.data)))
    where, name = letter_place(letter)
    devices, ours = settings.hive.root.child(where), list(own_names(settings))
    if not letter or devices is None or not ours:
        raise RefusedError("Which letter the system's volume should have cannot be told.")
    bound = devices.data(name)
    if bound in ours:
        raise RefusedError(f"The letter {letter}: belongs to the system's volume.")
    file = open_system_hive(request, start)
    editor, told = file.editor(), ""
    for value in list(devices.values()):
        is_letter = value.name.upper().startswith("\\DOSDEVICES\\")
        if is_letter and devices.data(value.name) in ours and bound is not None:
            editor.set_value(where, value.name, _BINARY, bound)
            told = f"; what had it gets {value.name[-2]}:"
    editor.set_value(where, name, _BINARY, ours[0])
    return Proposal(
        repair=DRIVE_LETTER,
        says=f"Leads the letter {letter}: back to volume {start.volume.number}{told}.",
        changes=tuple(hive_changes(request, file, editor, f"letters in {file.path}")),
        answers=request.found(FindingId.DRIVE_LETTER_MOVED),
        fault_after=lambda _trace: "",
    )
