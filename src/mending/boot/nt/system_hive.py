"""Is the system hive whole, as its kernel would see it, and is the control set there that it names?

The loader of this family reads the hive before it starts the kernel, finishes writes that were cut
off from the logs beside it, and takes drivers and settings from the control set that the key
`Select` names. A hive whose base block or root cannot be used ends the start with a status screen;
damage deeper inside may be mended by the system itself, or cost settings. Graded by public
descriptions of the hive format and of the start; no system of this family was started here.
"""

from collections.abc import Sequence

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    doubtful,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.hive_copies import copies_beside
from mending.disk.hives import Hive, Key, Replayed, replayed
from mending.disk.system import InstalledSystem
from mending.disk.volume import Volume
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import Finding, FindingId, Phase, Problem, Severity, Where
from mending.model.limits import HIVE_BYTES

_HIVE = "system32/config/system"
_LOGS = (".log", ".log1", ".log2")
_ENDS_THE_START = {"hive-magic", "hive-checksum", "hive-root", "hive-length", "hive-cut"}
"""Problems with which the loader cannot use a hive at all."""
_WORDS = {
    "hive-magic": "the mark of its base block",
    "hive-checksum": "the checksum of its base block",
    "hive-root": "the place of its root",
    "hive-length": "its length",
    "hive-cut": "what is there",
    "hive-version": "its version",
    "bin-magic": "the mark of a bin",
    "bin-offset": "the place that a bin names",
    "bin-length": "the length of a bin",
    "cell-length": "the length of a cell",
}
_UNREAD = FindingId.FILES_NOT_CHECKED


def system_hive(environment: BootEnvironment) -> Link | None:
    """The check of the system hive, where exactly one system of this family is on the disk: which
    of several starts is not known here.
    """
    found = [
        (volume, system)
        for volume in environment.volumes
        if not volume.extended
        for system in environment.contents(volume).systems
        if system.family == "nt"
    ]
    return HiveChecks(environment, *found[0]).hive if len(found) == 1 else None


class HiveChecks:
    """The checks of one system's hive. `hive` is the first."""

    def __init__(
        self, environment: BootEnvironment, volume: Volume, system: InstalledSystem
    ) -> None:
        self._environment, self._volume = environment, volume
        self._path = self._name = f"{system.title}/{_HIVE}"

    @not_followed(_UNREAD, "The system hive")
    def hive(self) -> CheckResult:
        """Can the loader use the hive, with what its logs hold?"""
        read = self._environment.read
        data = read(self._volume, self._path, HIVE_BYTES)
        found = self._environment.find(self._volume, self._path)
        self._name = found.path if found is not None else self._path
        if found is not None and found.bytes > len(data):
            says = f"{self._name} has {found.bytes} bytes, more than are read."
            return not_checked(finding(_UNREAD, Severity.NOTE, says, self._where()))
        if len(data) < 512:
            return self._damaged(f"it has only {len(data)} bytes", ())
        logs = [read(self._volume, f"{self._path}{ending}", HIVE_BYTES) for ending in _LOGS]
        after = replayed(data, logs)
        hive = Hive(after.data)
        problems = hive.check()
        fatal = [each for each in problems if each.code in _ENDS_THE_START]
        if fatal:
            return self._damaged(_told(fatal), fatal)
        try:
            selected = _selected(hive)
        except DamagedHiveError as error:
            return self._damaged(error.says.rstrip("."), ())
        if selected is None:
            return self._no_control_set(hive)
        return self._judged(after, problems, selected)

    def _damaged(self, why: str, problems: Sequence[Problem]) -> CheckResult:
        says = f"The system hive {self._name} cannot be used: {why}."
        where = self._at(problems[0]) if problems else self._where()
        fault = finding(FindingId.HIVE_DAMAGED, Severity.FATAL, says, where)
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
        fault = finding(FindingId.CONTROL_SET_MISSING, Severity.FATAL, says, self._where())
        return failed(fault).with_findings(*self._copies())

    def _copies(self) -> list[Finding]:
        """What could be put back, or why it could not."""
        found = []
        for copies in copies_beside(self._environment, self._volume, self._name.rpartition("/")[0]):
            where = Where(path=copies.folder)
            if copies.why_not:
                says = f"The copies of hives in {copies.folder} are no whole set: {copies.why_not}."
                found.append(finding(FindingId.HIVE_COPIES_UNFIT, Severity.NOTE, says, where))
            else:
                says = (
                    f"A whole set of copies of the hives lies in {copies.folder}, written"
                    f" {copies.written or 'at an unknown time'}."
                )
                found.append(finding(FindingId.HIVE_COPIES_WHOLE, Severity.NOTE, says, where))
        return found

    def _judged(self, after: Replayed, problems: Sequence[Problem], selected: str) -> CheckResult:
        deeper = [each for each in problems if each.code != "write-unfinished"]
        if deeper:
            says = (
                f"The system hive {self._name} is damaged inside: {_told(deeper)}. The system may"
                " mend that by itself, and settings may be lost."
            )
            where = self._at(deeper[0])
            damaged = FindingId.HIVE_DAMAGED_INSIDE
            return doubtful(finding(damaged, Severity.WARNING, says, where), self.rest)
        if not after.is_whole:
            says = (
                f"The last write to the system hive {self._name} was cut off, and no log beside it"
                " finishes that."
            )
            unfinished = FindingId.HIVE_UNFINISHED
            return doubtful(finding(unfinished, Severity.WARNING, says, self._where()), self.rest)
        logs = f", {after.applied} writes of its logs included" if after.applied else ""
        says = f"The system hive {self._name} is whole{logs}; it selects {selected}."
        return passed(Phase.LOADER, says, self._where(), self.rest)

    def rest(self) -> CheckResult:
        """The end of what is read of this family today, said so."""
        says = "Which drivers and files the kernel of this system loads is not read."
        return not_checked(finding(_UNREAD, Severity.NOTE, says, self._where()))

    def _where(self) -> Where:
        return Where(path=self._name)

    def _at(self, problem: Problem) -> Where:
        return Where(path=self._name, offset=problem.offset, length=problem.length)


def _selected(hive: Hive) -> str | None:
    """The name of the control set that the hive selects; None where it selects none that is there
    with its services and settings.

    Raises:
        DamagedHiveError: damage hides it.
    """
    select = hive.root.child("Select")
    number = select.number("Current") if select is not None else None
    key: Key | None = hive.root.child(f"ControlSet{number:03d}") if number is not None else None
    if key is None or key.child("Services") is None or key.child("Control") is None:
        return None
    return key.name


def _told(problems: Sequence[Problem]) -> str:
    first = problems[0]
    what = _WORDS.get(first.code, "a number in it")
    more = f"; {len(problems) - 1} more faults" if len(problems) > 1 else ""
    return f"{what} is {first.found} instead of {first.expected}, at offset {first.offset}{more}"
