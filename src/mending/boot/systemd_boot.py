"""The checks of a boot manager that reads entry files: which entries it shows, and what the first
of them loads.

Source: systemd 252, manual page systemd-boot(7): entries whose program is not there are not shown;
order by sort key, version and identifier.
"""

import fnmatch
from collections.abc import Iterator

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    failed,
    falling,
    finding,
    not_followed,
    passed,
)
from mending.boot.linux import LinuxChecks, LinuxStart, Part, read_unified, start_of
from mending.disk.volume import Volume
from mending.formats import boot_menus
from mending.model import Finding, FindingId, Phase, RepairId, Severity, Where

MARK = b"LoaderInfo: systemd-boot"
"""What the manager's own file says of itself."""
_ENTRIES, _UNIFIED = "loader/entries", "EFI/Linux"
_EXTENDED_TYPE = "Linux boot"


class _Entry(msgspec.Struct, frozen=True):
    """One entry of either kind, as the manager sorts it. `start` is None where it loads something
    we do not read.
    """

    volume: Volume
    id: str
    title: str
    version: str
    sort_key: str
    start: LinuxStart | None
    where: Where
    hidden: str = ""


class EntryChecks:
    """The checks of one manager. `menu` is the first.

    Args:
        home: the volume that it was loaded from.
    """

    def __init__(self, environment: BootEnvironment, home: Volume) -> None:
        self._environment, self._home = environment, home

    @not_followed(FindingId.BOOT_MANAGER_NOT_CHECKED, "The list of boot entries")
    def menu(self) -> CheckResult:
        """Is there an entry that is shown?"""
        found: list[_Entry] = []
        for volume in self._volumes():
            found += self._described(volume)
            found += self._unified(volume)
        settings = self._environment.read(self._home, "loader/loader.conf")
        shown = [entry for entry in found if not entry.hidden]
        notes = tuple(_hidden(entry, Severity.WARNING) for entry in found if entry.hidden)
        if not shown:
            return self._none(found, notes)
        entry = _first(shown, boot_menus.default_entry_pattern(settings))
        says = (
            f"{len(shown)} of {len(found)} boot entries can be shown; {entry.title or entry.id!r}"
            " starts by itself."
        )
        if entry.start is None:
            says += " What it loads is not read further."
            return passed(Phase.BOOT_MANAGER, says, entry.where, findings=notes)
        then = LinuxChecks(self._environment, entry.start).kernel
        return passed(Phase.BOOT_MANAGER, says, entry.where, then, notes)

    def _volumes(self) -> list[Volume]:
        """The volume that the manager is on, and the extended boot volume, if there is one."""
        others = [
            volume
            for volume in self._environment.volumes
            if volume.type == _EXTENDED_TYPE and volume != self._home
        ]
        return [self._home, *others]

    def _described(self, volume: Volume) -> Iterator[_Entry]:
        """Entries with a file that describes them."""
        for path in self._listing(volume, _ENTRIES, ".conf"):
            entry = boot_menus.read_entry(
                self._environment.read(volume, path), path.rpartition("/")[2]
            )
            where = Where(path=f"/{_ENTRIES}/{entry.id}")
            start = None
            if entry.kernel:
                initrds = tuple(Part(volume, path) for path in entry.initrds)
                manager = f"The boot entry {entry.id}"
                start = LinuxStart(
                    Part(volume, entry.kernel),
                    initrds,
                    entry.command_line,
                    where,
                    manager,
                    as_program=True,
                )
            hidden = "" if entry.program else "names no kernel"
            if entry.program and self._environment.find(volume, entry.program) is None:
                hidden = f"asks for {entry.program}, which is not on volume {volume.number}"
            yield _Entry(
                volume, entry.id, entry.title, entry.version, entry.sort_key, start, where, hidden
            )

    def _unified(self, volume: Volume) -> Iterator[_Entry]:
        """Kernels that bring everything with them."""
        for path in self._listing(volume, _UNIFIED, ".efi"):
            kernel = read_unified(self._environment, volume, path)
            name, where = path.rpartition("/")[2], Where(path=path)
            if kernel is None:
                hidden = "is no unified kernel"
                yield _Entry(volume, name, "", "", "", None, where, hidden)
            elif not kernel.sort_key or not kernel.title:
                hidden = "does not say of which system it is"
                yield _Entry(volume, name, "", "", "", None, where, hidden)
            else:
                start = start_of(volume, kernel)
                version, key = kernel.version, kernel.sort_key
                yield _Entry(volume, name, kernel.title, version, key, start, where)

    def _listing(self, volume: Volume, folder: str, ending: str) -> list[str]:
        inside = self._environment.listing(volume, folder)
        return sorted(file.path for file in inside if file.path.lower().endswith(ending))

    def _none(self, found: list[_Entry], notes: tuple[Finding, ...]) -> CheckResult:
        repairs = (RepairId.BOOT_ENTRIES,)
        if found:
            entry = found[0]
            says = f"No boot entry can be shown: the boot entry {entry.id} {entry.hidden}."
            missing, phase = FindingId.KERNEL_MISSING, Phase.BOOT_MANAGER
            fault = finding(missing, Severity.FATAL, says, entry.where, repairs, phase=phase)
            return failed(fault).with_findings(*notes)
        says = (
            f"The boot manager finds no entry: /{_ENTRIES} on volume {self._home.number} has none."
        )
        where = Where(path=f"/{_ENTRIES}")
        fault = finding(FindingId.BOOT_ENTRIES_MISSING, Severity.FATAL, says, where, repairs)
        return failed(fault).with_findings(*notes)


def _hidden(entry: _Entry, severity: Severity) -> Finding:
    says = f"The boot entry {entry.id} {entry.hidden}; the manager does not show it."
    return finding(FindingId.BOOT_ENTRY_HIDDEN, severity, says, entry.where)


def _first(shown: list[_Entry], pattern: str) -> _Entry:
    """The one that starts by itself: the default by its pattern, else the first in the manager's
    order.
    """
    for entry in shown:
        if pattern and fnmatch.fnmatchcase(entry.id.lower(), pattern.lower()):
            return entry
    return sorted(shown, key=_order)[0]


def _order(entry: _Entry) -> tuple[object, ...]:
    """With a sort key before without; then by it, then the highest version, then the highest
    identifier.
    """
    return (not entry.sort_key, entry.sort_key, falling(entry.version), falling(entry.id))
