"""Is the system hive whole, as its kernel would see it, and is the control set there that it names?

The loader of this family reads the hive before it starts the kernel, finishes writes that were cut
off from the logs beside it, and takes drivers and settings from the control set that the key
`Select` names. A hive whose base block or root cannot be used ends the start with a status screen;
damage deeper inside may be mended by the system itself, or cost settings. Graded by public
descriptions of the hive format and of the start; no system of this family was started here.
"""

import datetime
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    doubtful,
    failed,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.session import SessionChecks
from mending.boot.nt.start import (
    DISABLED,
    DRIVER_TYPES,
    SYSTEM,
    Driver,
    Libraries,
    NtSettings,
    NtStart,
    boot_drivers,
    driver_fault,
    drivers_of,
    lost_bins,
    nt_finding,
    replayed_hive,
    told,
)
from mending.disk.hives import Hive, Key, Replayed
from mending.disk.volume import Volume
from mending.formats.hives import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, InputError, Phase, Problem, RepairId, Severity, Where
from mending.model.data import unix_seconds
from mending.model.limits import HIVE_BYTES

# Copies of all hives in a folder beside them: whole, or not worth putting back.
#
# A set may only be put back whole, from one moment. Recent systems leave the folder there with
# empty files in it, so a folder alone tells nothing.


SET = ("SYSTEM", "SOFTWARE", "SAM", "SECURITY", "DEFAULT")
"""The hives that the whole system shares."""
_MOST_FOLDERS = 32


class HiveCopies(msgspec.Struct, frozen=True):
    """A folder with copies.

    Attributes:
        why_not: why the set may not be put back; empty where it is whole.
        written: when its system hive was last written, RFC 3339 in UTC; empty where unknown.
    """

    folder: str
    why_not: str
    written: str


def copies_beside(environment: BootEnvironment, volume: Volume, folder: str) -> list[HiveCopies]:
    """The folders inside a folder of hives that hold a system hive of their own.

    Raises:
        OutOfReachError: damage hides what is in it.
    """
    inside = environment.listing(volume, folder)
    folders = [file.path for file in inside if file.is_folder][:_MOST_FOLDERS]
    holding = [path for path in folders if environment.find(volume, f"{path}/{SET[0]}")]
    return [_judged(environment, volume, path) for path in holding]


def _judged(environment: BootEnvironment, volume: Volume, folder: str) -> HiveCopies:
    written = ""
    for name in SET:
        data = environment.read(volume, f"{folder}/{name}", HIVE_BYTES)
        if not data:
            there = environment.find(volume, f"{folder}/{name}") is not None
            why = f"{name} is {'empty' if there else 'not there'}"
            return HiveCopies(folder, why, written)
        try:
            hive = Hive(data)
            problems = hive.check()
        except InputError:
            problems, hive = (), None
        if hive is None or problems:
            return HiveCopies(folder, f"{name} is damaged or was not written to its end", written)
        if name == SET[0]:
            written = _time(hive.base.written)
    return HiveCopies(folder, "", written)


def _time(ticks: int) -> str:
    """A time in 100 ns since 1601."""
    try:
        at = datetime.datetime.fromtimestamp(int(unix_seconds(ticks)), datetime.UTC)
        return at.isoformat(timespec="seconds")
    except (OverflowError, ValueError, OSError):
        return ""


# What the kernel needs to reach the disk by its own drivers: filters of device classes whose
# driver is gone, drivers that it loads itself, and a check of drivers that was left switched on.
#
# A class of devices may name drivers that stand above or below those of its devices. A program that
# was removed and left its filter behind keeps every device of the class from starting; where that
# is a class between kernel and system volume, the kernel stops with INACCESSIBLE_BOOT_DEVICE.


_FILTERS = ("UpperFilters", "LowerFilters")


def lost_filters(
    settings: NtSettings, drivers: Mapping[str, Driver]
) -> Iterator[tuple[str, Finding]]:
    """Name and finding of each filter of a class before the system volume that cannot be loaded.

    Args:
        drivers: all drivers and services by lower-case name.
    """
    control = settings.control_set.child("Control")
    classes = control.child("Class") if control is not None else None
    where = Where(path=settings.start.path("system32/config/system"))
    for wanted in nt_names().classes:
        key = classes.child(wanted.guid) if classes is not None else None
        for kind in _FILTERS if key is not None else ():
            for name in (key.texts(kind) if key is not None else None) or ():
                driver = drivers.get(name.lower())
                if driver is not None and driver.start != DISABLED:
                    continue
                state = "has no entry among the drivers" if driver is None else "is switched off"
                says = (
                    f"The class of {wanted.what} names the filter {name} ({kind}), which {state}:"
                    " no device of the class can start."
                )
                severity = Severity.FATAL if driver is None else Severity.WARNING
                yield name, nt_finding(FindingId.CLASS_FILTER_GONE, severity, says, where)


class DeviceChecks:
    """The check of what the kernel starts devices by.

    Args:
        drivers: all drivers and services by lower-case name.
    """

    def __init__(self, settings: NtSettings, drivers: Mapping[str, Driver]) -> None:
        self._settings, self._drivers = settings, drivers
        self._where = Where(path=settings.start.path("system32/config/system"))

    def devices(self) -> CheckResult:
        """Can the kernel start the devices between itself and the system volume?"""
        then: Link = SessionChecks(self._settings, self._drivers).hives
        try:
            filters = [fault for _, fault in lost_filters(self._settings, self._drivers)]
            findings = [*filters, *self._own_drivers(), *self._checking()]
        except DamagedHiveError as error:
            says = f"What the kernel starts devices by was not read: {error.says}"
            note = nt_finding(FindingId.ROOT_NOT_CHECKED, Severity.NOTE, says, self._where)
            return not_checked(note, then)
        fatal = [each for each in findings if each.severity is Severity.FATAL]
        if fatal:
            rest = [each for each in findings if each is not fatal[0]]
            return failed(fatal[0], then).with_findings(*rest)
        own = sum(self._is_own(driver) for driver in self._drivers.values())
        says = "No class of devices before the system volume lost a filter; drivers that the kernel"
        says += f" loads itself: {own}."
        return passed(Phase.KERNEL, says, self._where, then, tuple(findings))

    def _own_drivers(self) -> Iterator[Finding]:
        libraries = Libraries(self._settings.start, self._settings.start.kernel_names)
        for driver in self._drivers.values():
            if self._is_own(driver):
                fault = driver_fault(self._settings, driver, libraries, Phase.KERNEL)
                if fault is not None:
                    yield fault

    def _is_own(self, driver: Driver) -> bool:
        return driver.start == SYSTEM and driver.type in DRIVER_TYPES

    def _checking(self) -> Iterator[Finding]:
        memory = self._settings.control_set.path("Control", "Session Manager", "Memory Management")
        level = memory.number("VerifyDriverLevel") if memory is not None else None
        names = memory.text("VerifyDrivers") if memory is not None else None
        if level or names:
            says = f"The kernel checks drivers while they run ({names or 'those that were chosen'}"
            says += f", level {level or 0:x}): a fault that it finds is a stop."
            yield nt_finding(FindingId.DRIVER_CHECKING_LEFT_ON, Severity.WARNING, says, self._where)


# The drivers that the loader brings into memory with the kernel: in the order of their groups, is
# the image of each there, whole, for the same machine, and does it get what it wants of libraries?
#
# What follows from a driver that cannot be loaded is in the driver's own settings: where its error
# control is *critical*, the start ends; else it goes on without that driver, which may still be the
# one that reaches the disk.


_SHOWN = 4


class DriverChecks:
    """The check of the boot-start drivers."""

    def __init__(self, settings: NtSettings) -> None:
        self._settings = settings

    def drivers(self) -> CheckResult:
        """Can each be loaded?"""
        try:
            known = drivers_of(self._settings)
            ordered = boot_drivers(self._settings, known)
        except DamagedHiveError as error:
            says = f"Which drivers are loaded with the kernel was not read: {error.says}"
            note = nt_finding(FindingId.FILES_NOT_CHECKED, Severity.NOTE, says)
            return not_checked(note, SessionChecks(self._settings, {}).hives)
        then: Link = DeviceChecks(self._settings, known).devices
        findings = list(self._faults(ordered))
        fatal = [each for each in findings if each.severity is Severity.FATAL]
        if fatal:
            rest = [each for each in findings if each is not fatal[0]]
            return failed(fatal[0], then).with_findings(*rest)
        unread = [each for each in findings if each.id == FindingId.FILES_NOT_CHECKED]
        if unread:
            rest = [each for each in findings if each is not unread[0]]
            return not_checked(unread[0], then).with_findings(*rest)
        whole = len(ordered) - len(findings)
        says = f"{whole} of {len(ordered)} drivers that are loaded with the kernel are whole"
        says += f"; storage: {_storage(ordered)}."
        where = Where(path=self._settings.start.path(nt_names().drivers.folder))
        return passed(Phase.LOADER, says, where, then, tuple(findings))

    def _faults(self, drivers: list[Driver]) -> Iterator[Finding]:
        libraries = Libraries(self._settings.start, self._settings.start.kernel_names)
        for driver in drivers:
            found = driver_fault(self._settings, driver, libraries, Phase.LOADER)
            if found is not None:
                yield found


def _storage(drivers: list[Driver]) -> str:
    groups = nt_names().drivers.storage_groups
    names = [driver.name for driver in drivers if driver.group.lower() in groups]
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return (", ".join(names[:_SHOWN]) + more) if names else "none"


_HIVE = "system32/config/system"
_UNREAD = FindingId.FILES_NOT_CHECKED


class HiveChecks:
    """The checks of one system's hive. `hive` is the first."""

    def __init__(self, start: NtStart) -> None:
        self._start, self._environment, self._volume = start, start.environment, start.volume
        self._path = self._name = start.path(_HIVE)

    @not_followed(_UNREAD, "The system hive")
    def hive(self) -> CheckResult:
        """Can the loader use the hive, with what its logs hold?"""
        found = self._environment.find(self._volume, self._path)
        self._name = found.path if found is not None else self._path
        if found is not None and found.bytes > HIVE_BYTES:
            says = f"{self._name} has {found.bytes} bytes, more than are read."
            return not_checked(nt_finding(_UNREAD, Severity.NOTE, says, self._where()))
        hive, after, why = replayed_hive(self._environment, self._volume, self._path)
        if hive is None:
            problems = Hive(after.data).check() if len(after.data) >= 512 else ()
            return self._damaged(why, problems, lost_bins(after.data))
        try:
            selected = _selected(hive)
        except DamagedHiveError as error:
            return self._damaged(error.says.rstrip("."), (), lost_bins(after.data))
        if selected is None:
            return self._no_control_set(hive)
        return self._judged(after, hive, selected)

    def _damaged(
        self, why: str, problems: Sequence[Problem], without: RepairId | None
    ) -> CheckResult:
        says = f"The system hive {self._name} cannot be used: {why}."
        where = self._at(problems[0]) if problems else self._where()
        kind = FindingId.HIVE_DAMAGED
        fault = nt_finding(kind, Severity.FATAL, says, where, without=without)
        return failed(fault).with_findings(*self._copies())

    def _no_control_set(self, hive: Hive) -> CheckResult:
        select = hive.root.child("Select")
        number = select.number("Current") if select is not None else None
        names = ", ".join(key.name for key in hive.root.children() if "ControlSet" in key.name)
        wanted = "no control set" if number is None else f"control set {number}"
        says = (
            f"The system hive {self._name} selects {wanted}, which is not in it or has no settings;"
            f" it holds {names or 'none'}."
        )
        fault = nt_finding(FindingId.CONTROL_SET_MISSING, Severity.FATAL, says, self._where())
        return failed(fault).with_findings(*self._copies())

    def _copies(self) -> list[Finding]:
        """What could be put back, or why it could not."""
        found = []
        for copies in copies_beside(self._environment, self._volume, self._name.rpartition("/")[0]):
            where = Where(path=copies.folder)
            if copies.why_not:
                says = f"The copies of hives in {copies.folder} are no whole set: {copies.why_not}."
                found.append(nt_finding(FindingId.HIVE_COPIES_UNFIT, Severity.NOTE, says, where))
            else:
                says = (
                    f"A whole set of copies of the hives lies in {copies.folder}, written"
                    f" {copies.written or 'at an unknown time'}."
                )
                found.append(nt_finding(FindingId.HIVE_COPIES_WHOLE, Severity.NOTE, says, where))
        return found

    def _judged(self, after: Replayed, hive: Hive, selected: Key) -> CheckResult:
        then: Link = DriverChecks(NtSettings(self._start, hive, selected)).drivers
        deeper = [each for each in hive.check() if each.code != "write-unfinished"]
        if deeper:
            says = (
                f"The system hive {self._name} is damaged inside: {told(deeper)}. The system may"
                " mend that by itself, and settings may be lost."
            )
            where = self._at(deeper[0])
            damaged = FindingId.HIVE_DAMAGED_INSIDE
            return doubtful(nt_finding(damaged, Severity.WARNING, says, where), then)
        if not after.is_whole:
            says = (
                f"The last write to the system hive {self._name} was cut off, and no log beside it"
                " finishes that."
            )
            unfinished = FindingId.HIVE_UNFINISHED
            return doubtful(nt_finding(unfinished, Severity.WARNING, says, self._where()), then)
        logs = f", {after.applied} writes of its logs included" if after.applied else ""
        says = f"The system hive {self._name} is whole{logs}; it selects {selected.name}."
        return passed(Phase.LOADER, says, self._where(), then)

    def _where(self) -> Where:
        return Where(path=self._name)

    def _at(self, problem: Problem) -> Where:
        return Where(path=self._name, offset=problem.offset, length=problem.length)


def read_settings(start: NtStart) -> NtSettings | None:
    """The settings that the kernel of a system would see; None where the hive cannot be used.

    Raises:
        OutOfReachError: its file cannot be read.
    """
    try:
        hive, _, _ = replayed_hive(start.environment, start.volume, start.path(_HIVE))
        selected = _selected(hive) if hive is not None else None
    except InputError:
        return None
    return NtSettings(start, hive, selected) if hive is not None and selected is not None else None


def _selected(hive: Hive) -> Key | None:
    """The control set that the hive selects; None where it selects none that is there with its
    services and settings.

    Raises:
        DamagedHiveError: damage hides it.
    """
    select = hive.root.child("Select")
    number = select.number("Current") if select is not None else None
    key: Key | None = hive.root.child(f"ControlSet{number:03d}") if number is not None else None
    if key is None or key.child("Services") is None or key.child("Control") is None:
        return None
    return key
