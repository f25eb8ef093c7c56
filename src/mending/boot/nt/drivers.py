"""The drivers that the loader brings into memory with the kernel: in the order of their groups, is
the image of each there, whole, for the same machine, and does it get what it wants of libraries?

What follows from a driver that cannot be loaded is in the driver's own settings: where its error
control is *critical*, the start ends; else it goes on without that driver, which may still be the
one that reaches the disk.
"""

from collections.abc import Iterator

from mending.boot.chain import CheckResult, Link, failed, not_checked, passed
from mending.boot.nt.devices import DeviceChecks
from mending.boot.nt.services import Driver, boot_drivers, driver_fault, drivers_of
from mending.boot.nt.session import SessionChecks
from mending.boot.nt.start import Libraries, NtSettings, nt_finding
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, Phase, Severity, Where

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
