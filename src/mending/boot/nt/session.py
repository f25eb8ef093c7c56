"""From the kernel to the sign-in: the other hives that the whole system shares, the programs that
run before anybody can sign in, and what was left unfinished.

A hive of these that cannot be loaded is a stop (STATUS_CANNOT_LOAD_REGISTRY_FILE); so is the end of
the programs that make a session. Graded by public descriptions of the start.
"""

from collections.abc import Iterator, Mapping

from mending.boot.chain import (
    CheckResult,
    Link,
    doubtful,
    failed,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.letters import is_elsewhere, letters_of
from mending.boot.nt.replayed_hive import lost_bins, replayed_hive
from mending.boot.nt.services import AUTOMATIC, DRIVER_TYPES, Driver
from mending.boot.nt.sign_in import SignInChecks, current_version
from mending.boot.nt.start import Libraries, NtSettings, Program, nt_finding, read_program
from mending.disk.hives import Hive
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, Phase, RepairId, Severity, Where
from mending.model.limits import HIVE_BYTES

_UNREAD = FindingId.SESSION_NOT_CHECKED
_CONFIG = "system32/config"
_HALF_DONE = "winsxs/pending.xml"
_NO_DUMPS = 0
_SHOWN = 3


class SessionChecks:
    """The checks of the session. `hives` is the first."""

    def __init__(self, settings: NtSettings, drivers: Mapping[str, Driver]) -> None:
        self._settings, self._start, self._drivers = settings, settings.start, drivers
        self._software: Hive | None = None

    @not_followed(_UNREAD, "A hive of the system", then=lambda checks: checks.programs)
    def hives(self) -> CheckResult:
        """Can the kernel load the other hives?"""
        unfinished = []
        for name in nt_names().session.hives:
            path = self._start.path(f"{_CONFIG}/{name}")
            found = self._start.environment.find(self._start.volume, path)
            where = Where(path=found.path if found is not None else path)
            if found is None:
                says = f"The hive {path} is not there."
                return self._hive_failed(says, where, RepairId.HIVE_HEADER)
            if found.bytes > HIVE_BYTES:
                says = f"The hive {found.path} has {found.bytes} bytes, more than are read."
                note = nt_finding(_UNREAD, Severity.NOTE, says, where)
                return not_checked(note, self.programs)
            environment, volume = self._start.environment, self._start.volume
            hive, after, why = replayed_hive(environment, volume, found.path)
            if hive is None:
                says = f"The hive {found.path} cannot be used: {why}."
                return self._hive_failed(says, where, lost_bins(after.data))
            if name == nt_names().session.hives[0]:
                self._software = hive
            if not after.is_whole:
                unfinished.append(where)
        if unfinished:
            says = f"The last write to the hive {unfinished[0].path} was cut off, and no log beside"
            says += " it finishes that."
            kind, phase = FindingId.HIVE_UNFINISHED, Phase.SESSION
            fault = nt_finding(kind, Severity.WARNING, says, unfinished[0], phase=phase)
            return doubtful(fault, self.programs)
        says = f"{len(nt_names().session.hives)} other hives of the system are whole."
        where = Where(path=self._start.path(_CONFIG))
        return passed(Phase.SESSION, says, where, self.programs)

    @not_followed(_UNREAD, "The programs of the session", then=lambda checks: checks._sign_in())
    def programs(self) -> CheckResult:
        """Are the programs there that make a session, and what was left unfinished?"""
        read = 0
        libraries = Libraries(self._start)
        names = nt_names().session
        notes = list(self._left())
        for path in (*names.programs, *names.newer):
            program = read_program(self._start, self._start.path(path))
            if program is None and path in names.newer:
                continue
            fault = self._program_fault(self._start.path(path), program, libraries)
            if fault is not None and fault.severity is Severity.FATAL:
                return failed(fault, self._sign_in()).with_findings(*notes)
            if fault is not None:
                return not_checked(fault, self._sign_in()).with_findings(*notes)
            read += 1
        says = f"{read} programs that make a session are whole."
        where = Where(path=self._start.path("system32"))
        return passed(Phase.SESSION, says, where, self._sign_in(), tuple(notes))

    def _program_fault(
        self, path: str, program: Program | None, libraries: Libraries
    ) -> Finding | None:
        if program is None:
            says = f"The program {path}, without which no session begins, is not there."
            missing = FindingId.SESSION_PROGRAM_MISSING
            return nt_finding(missing, Severity.FATAL, says, Where(path=path))
        if program.unread:
            says = f"The program {program.path} was not checked: {program.unread}."
            return nt_finding(_UNREAD, Severity.NOTE, says, program.where)
        why = program.why or libraries.lacking(program)
        if not why:
            return None
        says = f"The program {program.path}, without which no session begins, cannot run: {why}."
        kind = FindingId.SESSION_PROGRAM_DAMAGED
        return nt_finding(kind, Severity.FATAL, says, program.where)

    def _sign_in(self) -> Link:
        return SignInChecks(self._settings, self._software).sign_in

    def _left(self) -> Iterator[Finding]:
        """What was left unfinished or switched off; damage in a key costs what is in it."""
        for left in (self._set_up, self._renames, self._before, self._dumps, self._services):
            try:
                yield from left()
            except DamagedHiveError as error:
                says = f"A part of the settings was not read: {error.says}"
                yield nt_finding(_UNREAD, Severity.NOTE, says, self._hive_place())

    def _set_up(self) -> Iterator[Finding]:
        key = self._settings.hive.root.child("Setup")
        kind = key.number("SetupType") if key is not None else None
        runs = key.number("SystemSetupInProgress") if key is not None else None
        command = key.text("CmdLine") if key is not None else None
        if kind or runs:
            says = f"A set-up has not come to its end; the next start goes on with {command!r}."
            unfinished = FindingId.SETUP_UNFINISHED
            yield nt_finding(unfinished, Severity.WARNING, says, self._hive_place())

    def _renames(self) -> Iterator[Finding]:
        manager = self._settings.control_set.path("Control", "Session Manager")
        waiting = manager.texts("PendingFileRenameOperations") if manager is not None else None
        if waiting:
            says = f"{len(waiting)} names wait to be changed or removed at the next start, the"
            says += f" first is {waiting[0]}."
            yield nt_finding(FindingId.RENAMES_PENDING, Severity.NOTE, says, self._hive_place())
        path = self._start.path(_HALF_DONE)
        half_done = self._start.environment.find(self._start.volume, path)
        if half_done is not None:
            says = f"An update was not brought to its end: {half_done.path} lists what is left."
            where = Where(path=half_done.path)
            yield nt_finding(FindingId.UPDATE_UNFINISHED, Severity.WARNING, says, where)

    def _before(self) -> Iterator[Finding]:
        """Programs that run before the session; one that is missing is passed over."""
        names = nt_names().session
        manager = self._settings.control_set.path("Control", "Session Manager")
        for line in (manager.texts(names.before_session) if manager is not None else None) or ():
            words = [word for word in line.split() if word != names.check_of_volumes]
            if not words:
                continue
            program = words[0]
            path = self._start.path(f"system32/{program.removesuffix('.exe')}.exe")
            if self._start.environment.find(self._start.volume, path) is None:
                says = f"{path}, which runs before the session, is not there."
                missing = FindingId.SESSION_PROGRAM_MISSING
                yield nt_finding(missing, Severity.WARNING, says, Where(path=path))

    def _dumps(self) -> Iterator[Finding]:
        key = self._settings.control_set.path("Control", "CrashControl")
        memory = self._settings.control_set.path("Control", "Session Manager", "Memory Management")
        pages = memory.texts("PagingFiles") if memory is not None else None
        why = ""
        if key is not None and key.number("CrashDumpEnabled") == _NO_DUMPS:
            why = "that is switched off in the settings"
        elif pages == ():
            why = "there is no page file to write it into"
        if why:
            says = f"No record is written at a stop: {why}."
            yield nt_finding(FindingId.DUMPS_OFF, Severity.NOTE, says, self._hive_place())

    def _services(self) -> Iterator[Finding]:
        """Services that begin with the session and whose program is gone."""
        letters = letters_of(self._settings, current_version(self._software))
        gone = [
            driver
            for driver in self._drivers.values()
            if driver.start == AUTOMATIC
            and driver.type not in DRIVER_TYPES
            and not is_elsewhere(letters, driver.written)
            and self._start.environment.find(self._start.volume, driver.path) is None
        ]
        if gone:
            shown = ", ".join(f"{driver.name} ({driver.path})" for driver in gone[:_SHOWN])
            says = f"{len(gone)} services that begin with the session have no program: {shown}."
            yield nt_finding(FindingId.SERVICE_MISSING, Severity.WARNING, says, self._hive_place())

    def _hive_failed(self, says: str, where: Where, without: RepairId | None) -> CheckResult:
        kind, phase = FindingId.HIVE_DAMAGED, Phase.SESSION
        fault = nt_finding(kind, Severity.FATAL, says, where, phase, without)
        return failed(fault, self.programs)

    def _hive_place(self) -> Where:
        return Where(path=self._start.path(f"{_CONFIG}/system"))
