"""Is the system hive whole, as its kernel would see it, and is the control set there that it names?

The loader of this family reads the hive before it starts the kernel, finishes writes that were cut
off from the logs beside it, and takes drivers and settings from the control set that the key
`Select` names. A hive whose base block or root cannot be used ends the start with a status screen;
damage deeper inside may be mended by the system itself, or cost settings. Graded by public
descriptions of the hive format and of the start; no system of this family was started here.
"""

from collections.abc import Sequence

from mending.boot.chain import (
    CheckResult,
    Link,
    doubtful,
    failed,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.drivers import DriverChecks
from mending.boot.nt.hive_copies import copies_beside
from mending.boot.nt.replayed_hive import lost_bins, replayed_hive, told
from mending.boot.nt.start import NtSettings, NtStart, nt_finding
from mending.disk.hives import Hive, Key, Replayed
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import (
    Finding,
    FindingId,
    InputError,
    Phase,
    Problem,
    RepairId,
    Severity,
    Where,
)
from mending.model.limits import HIVE_BYTES

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
