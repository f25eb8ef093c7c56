"""What the kernel needs to reach the disk by its own drivers: filters of device classes whose
driver is gone, drivers that it loads itself, and a check of drivers that was left switched on.

A class of devices may name drivers that stand above or below those of its devices. A program that
was removed and left its filter behind keeps every device of the class from starting; where that is
a class between kernel and system volume, the kernel stops with INACCESSIBLE_BOOT_DEVICE.
"""

from collections.abc import Iterator, Mapping

from mending.boot.chain import CheckResult, Link, failed, not_checked, passed
from mending.boot.nt.services import DISABLED, DRIVER_TYPES, SYSTEM, Driver, driver_fault
from mending.boot.nt.session import SessionChecks
from mending.boot.nt.start import Libraries, NtSettings, nt_finding
from mending.disk.hives import Key
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, Phase, Severity, Where

_FILTERS = ("UpperFilters", "LowerFilters")


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
            filters = list(self._filters())
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

    def _filters(self) -> Iterator[Finding]:
        control = self._settings.control_set.child("Control")
        classes = control.child("Class") if control is not None else None
        for wanted in nt_names().classes:
            key = classes.child(wanted.guid) if classes is not None else None
            for kind in _FILTERS if key is not None else ():
                yield from self._of_class(key, kind, wanted.what)

    def _of_class(self, key: Key | None, kind: str, what: str) -> Iterator[Finding]:
        for name in (key.texts(kind) if key is not None else None) or ():
            driver = self._drivers.get(name.lower())
            if driver is not None and driver.start != DISABLED:
                continue
            state = "has no entry among the drivers" if driver is None else "is switched off"
            says = (
                f"The class of {what} names the filter {name} ({kind}), which {state}: no device of"
                " the class can start."
            )
            kind_of = FindingId.CLASS_FILTER_GONE
            severity = Severity.FATAL if driver is None else Severity.WARNING
            yield nt_finding(kind_of, severity, says, self._where)

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
