"""The settings of one moment as a list, each in plain words.

Sources: published documentation of the settings of services (`Start`, `Type`, `ErrorControl`,
`Group`, `ImagePath`), of class filters, of the session's programs, of installed programs and their
uninstallers, and of installed packages of updates.
"""

import hashlib
import re
import uuid
from collections import Counter
from collections.abc import Callable, Iterator

import msgspec

from mending.disk.files import Files, FilesUnavailableError
from mending.disk.hives import Hive, Key, control_set, current_versions, replayed, walk
from mending.disk.system import systems_on
from mending.formats.hives import DamagedHiveError
from mending.model import InputError, clean_text, plain_time
from mending.model.data import unix_seconds
from mending.model.limits import HIVE_BYTES

# The hives of one moment: those of the system and of its programs, with what their logs hold.


_SYSTEM, _PROGRAMS = "system", "software"
_HOME = "system32/config"
_LOGS = (".log", ".log1", ".log2")
_LEAST = 512


class HiveSet(msgspec.Struct, frozen=True, kw_only=True):
    """Hives of one moment; None for one that is not there or cannot be read, which is noted.

    Attributes:
        home: the folder of the system's hives; empty for a file of its own.
        written: when the system's hive was written last, 100 ns since 1601; 0 where not known.
    """

    home: str
    system: Hive | None
    programs: Hive | None
    written: int
    notes: tuple[str, ...]


def hive_set_of(files: Files) -> HiveSet | None:
    """The hives of the system on a volume, or of a folder that holds hives themselves; None where
    there is neither.

    Raises:
        FilesUnavailableError: damage hides them.
    """
    systems = systems_on(files, 0).systems
    home = next((f"{each.title}/{_HOME}" for each in systems if each.family == "nt"), "")
    if not home and not any(files.find(name) for name in (_SYSTEM, _PROGRAMS)):
        return None

    def read(name: str) -> bytes:
        found = files.find(f"{home}/{name}")
        if found is None or found.is_folder or found.bytes > HIVE_BYTES:
            return b""
        return files.read(found, HIVE_BYTES)

    return _set_of(home, read)


def one_hive(name: str, data: bytes) -> HiveSet:
    """A hive in a file of its own; which one it is tells what is in it.

    Raises:
        InputError: it cannot be used.
    """
    hive, why = _usable(data, [])
    if hive is None:
        raise InputError(f"{name} is no hive that can be read: {why}.")
    is_system = (
        hive.root.child("Select") is not None or hive.root.child("ControlSet001") is not None
    )
    return HiveSet(
        home="",
        system=hive if is_system else None,
        programs=None if is_system else hive,
        written=hive.base.written,
        notes=(),
    )


def _set_of(home: str, read: Callable[[str], bytes]) -> HiveSet:
    found: dict[str, Hive | None] = {}
    notes = []
    for name in (_SYSTEM, _PROGRAMS):
        try:
            data = read(name)
            logs = [read(f"{name}{ending}") for ending in _LOGS]
        except FilesUnavailableError as error:
            found[name] = None
            notes.append(f"The hive {name} was not read: {error.says}")
            continue
        found[name], why = _usable(data, logs) if data else (None, "it is not there or empty")
        if found[name] is None:
            notes.append(f"The hive {name} was not compared: {why}.")
    system = found[_SYSTEM]
    return HiveSet(
        home=home,
        system=system,
        programs=found[_PROGRAMS],
        written=system.base.written if system is not None else 0,
        notes=tuple(notes),
    )


def _usable(data: bytes, logs: list[bytes]) -> tuple[Hive | None, str]:
    """A hive with its logs replayed, or why there is none."""
    if len(data) < _LEAST:
        return None, f"it has only {len(data)} bytes"
    try:
        hive = Hive(replayed(data, logs).data)
        key: Key = hive.root
        next(iter(key.children()), None)
    except DamagedHiveError as error:
        return None, error.says.rstrip(".")
    except InputError as error:
        return None, error.says.rstrip(".")
    return hive, ""


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


# How the settings of two moments differ: what the start depends on first, the rest counted.


CHANGES = ("added", "removed", "changed")
_MOST_KEYS = 500_000
_ROOT = re.compile(r"\\systemroot\\|%systemroot%\\|\\\?\?\\")


class SettingChange(msgspec.Struct, frozen=True, kw_only=True):
    """One setting that differs. `was` and `is_` are empty where it is not there.

    Attributes:
        change: `added removed changed`, from the first side to the second.
        decides: whether the start depends on it.
    """

    kind: str
    name: str
    change: str
    was: str
    is_: str = msgspec.field(name="is")
    decides: bool


class SideResult(msgspec.Struct, frozen=True, kw_only=True):
    """One side: as it was named, where its hives lie, and when the system's was written last."""

    name: str
    home: str
    written: str | None


class CompareResult(
    msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="compare/1"
):
    """Two moments set against each other.

    Attributes:
        changes: those that the start depends on first.
        others: keys of the hives that differ otherwise, by hive.
    """

    sides: tuple[SideResult, SideResult]
    changes: tuple[SettingChange, ...]
    others: dict[str, int]
    notes: tuple[str, ...]


def compared(names: tuple[str, str], before: HiveSet, after: HiveSet) -> CompareResult:
    """What is otherwise on the second side. A hive that one side lacks is left out."""
    notes_of_both = (*before.notes, *after.notes, *_lacking(before, after))
    before, after = _without(before, after), _without(after, before)
    first, notes = listed(before)
    second, more = listed(after)
    found = []
    for key in first.keys() | second.keys():
        was, now = first.get(key), second.get(key)
        if was is None or now is None or _plain(was.says) != _plain(now.says):
            found.append(_change(was, now))
    pairs = {"system": (before.system, after.system), "software": (before.programs, after.programs)}
    others = {
        name: _differing(one, other)
        for name, (one, other) in pairs.items()
        if one is not None and other is not None
    }
    return CompareResult(
        sides=(_side(names[0], before), _side(names[1], after)),
        changes=tuple(sorted(found, key=_rank)),
        others=others,
        notes=tuple(dict.fromkeys((*notes_of_both, *notes, *more))),
    )


def _plain(says: str) -> str:
    """Without what means the same: case, and how the system's folder is written."""
    return _ROOT.sub("", says.casefold())


def _lacking(one: HiveSet, other: HiveSet) -> Iterator[str]:
    if (one.system is None) != (other.system is None):
        yield "One side has no system hive: drivers, services and devices are not compared."
    if (one.programs is None) != (other.programs is None):
        yield "One side has no hive of programs: programs, updates and sign-in are not compared."


def _without(hives: HiveSet, other: HiveSet) -> HiveSet:
    return msgspec.structs.replace(
        hives,
        system=hives.system if other.system is not None else None,
        programs=hives.programs if other.programs is not None else None,
    )


def _change(was: Setting | None, now: Setting | None) -> SettingChange:
    one = now or was
    if one is None:
        raise ValueError("a change of nothing")
    return SettingChange(
        kind=one.kind,
        name=one.name,
        change="added" if was is None else "removed" if now is None else "changed",
        was=was.says if was is not None else "",
        is_=now.says if now is not None else "",
        decides=any(each.decides for each in (was, now) if each is not None),
    )


def _rank(change: SettingChange) -> tuple[object, ...]:
    return not change.decides, change.kind, change.name.casefold()


def _side(name: str, hives: HiveSet) -> SideResult:
    written = unix_seconds(hives.written)
    return SideResult(
        name=name, home=hives.home, written=plain_time(written) if written > 0 else None
    )


def _differing(one: Hive, other: Hive) -> int:
    """How many keys are on one side alone, or hold other values."""
    first, second = Counter(_sums(one)), Counter(_sums(other))
    differing = (first - second) | (second - first)
    return len({path for path, _ in differing})


def _sums(hive: Hive) -> Iterator[tuple[str, bytes]]:
    """Every key with a sum of its values; a damaged place ends it."""
    try:
        for count, (path, key) in enumerate(walk(hive.root)):
            if count >= _MOST_KEYS:
                return
            total = hashlib.blake2b(digest_size=12)
            for value in sorted(key.values(), key=lambda each: each.name):
                total.update(value.name.encode("utf-16-le", "replace") + bytes(2))
                total.update(value.type.to_bytes(4, "little") + hive.data(value))
            yield path.casefold(), total.digest()
    except DamagedHiveError:  # it is noted where settings are listed
        return


# What going back to an earlier moment of the settings would take and bring, in plain words.


_LOST = frozenset(
    {"driver", "service", "filter", "sign-in", "start-up", "program", "update", "device"}
)
_BACK = {
    "added": "would be gone",
    "removed": "would come back",
    "changed": "would be as it was",
}
_MOST_TOLD = 12


def losses_of(before: HiveSet, now: HiveSet) -> tuple[str, ...]:
    """The same; the start's own parts first.

    Args:
        before: the moment to go back to.
    """
    told = [change for change in compared(("", ""), before, now).changes if change.kind in _LOST]
    rest = len(told) - _MOST_TOLD
    more = [f"and {rest} more settings"] if rest > 0 else []
    return (*(f"{each.kind} {each.name} {_BACK[each.change]}" for each in told[:_MOST_TOLD]), *more)
