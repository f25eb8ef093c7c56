"""From the kernel to the sign-in: the other hives that the whole system shares, the programs that
run before anybody can sign in, and what was left unfinished.

A hive of these that cannot be loaded is a stop (STATUS_CANNOT_LOAD_REGISTRY_FILE); so is the end of
the programs that make a session. Graded by public descriptions of the start.
"""

import uuid
from collections.abc import Iterator, Mapping

import msgspec

from mending.boot.chain import (
    CheckResult,
    Link,
    doubtful,
    failed,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.start import (
    AUTOMATIC,
    DRIVER_TYPES,
    Driver,
    Libraries,
    NtSettings,
    Program,
    lost_bins,
    nt_finding,
    read_program,
    replayed_hive,
)
from mending.disk.hives import Hive, Key
from mending.formats.hives import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, Phase, RepairId, Severity, VolumeState, Where
from mending.model.limits import HIVE_BYTES

# The drive letter of the system's volume: does it still belong to that volume?
#
# The settings keep for each letter which volume it means: by disk signature and offset on an MBR
# disk, by the GUID of the partition on a GPT disk. After a copy to another disk the letter of the
# system may be bound to the old one; the system then gives its own volume another letter, and the
# programs of a sign-in, which are named with the old one, are not found.


_LETTERS = "MountedDevices"
_NAME = "\\DosDevices\\{}:"
_BY_GUID, _BY_PLACE = b"DMIO:ID:", 12


def letter_fault(settings: NtSettings, current: Key | None) -> Iterator[Finding]:
    """What is wrong with the letter by which the system names its own folder.

    Args:
        current: the key that tells that folder.

    Raises:
        DamagedHiveError
    """
    letter, devices = letter_of(current), settings.hive.root.child(_LETTERS)
    if not letter or devices is None:
        return
    bound = devices.data(_NAME.format(letter))
    ours = list(own_names(settings))
    if bound is None or not ours or bound in ours or not _is_known(bound):
        return
    letters = _bound_to(devices, ours)
    now = f"; its own volume is {letters[0]}: now" if letters else ""
    says = f"The letter {letter}:, by which the system names its folder, belongs to another volume"
    says += f" ({_told(bound)}){now}."
    where = Where(path=settings.start.path("system32/config/system"))
    yield nt_finding(FindingId.DRIVE_LETTER_MOVED, Severity.WARNING, says, where)


def letters_of(settings: NtSettings, current: Key | None) -> frozenset[str]:
    """The letters by which the settings mean the system's volume: those bound to it, and the one
    with which its folder is named; none where that cannot be told.

    Raises:
        DamagedHiveError
    """
    devices = settings.hive.root.child(_LETTERS)
    bound = _bound_to(devices, list(own_names(settings))) if devices is not None else []
    letter = letter_of(current)
    return frozenset([*bound, *([letter] if letter else [])])


def is_elsewhere(letters: frozenset[str], line: str) -> bool:
    """Whether a line of settings names something on another volume than the system's."""
    text = line.strip().lstrip('"').removeprefix("\\??\\")
    return bool(letters) and text[1:2] == ":" and text[0].upper() not in letters


def letter_place(letter: str) -> tuple[str, str]:
    """The key and the value that keep what a letter means."""
    return _LETTERS, _NAME.format(letter)


def letter_of(current: Key | None) -> str:
    """The letter by which the system names its own folder; empty where it names none. Raises
    DamagedHiveError.
    """
    folder = (current.text("SystemRoot") or "") if current is not None else ""
    return folder[0].upper() if folder[1:2] == ":" else ""


def _bound_to(devices: Key, names: list[bytes]) -> list[str]:
    return [
        value.name[-2].upper()
        for value in devices.values()
        if value.name.upper().startswith("\\DOSDEVICES\\") and devices.data(value.name) in names
    ]


def own_names(settings: NtSettings) -> Iterator[bytes]:
    """How the settings may name the system's volume."""
    start = settings.start
    disk = start.environment.disk
    if disk is None:
        return
    volume = start.environment.outside(start.volume)
    if volume.partuuid and disk.gpt is not None:
        yield _BY_GUID + uuid.UUID(volume.partuuid).bytes_le
    elif disk.mbr is not None:
        signature = disk.mbr.record.fields.disk_signature
        yield signature.to_bytes(4, "little") + volume.offset.to_bytes(8, "little")


def _is_known(bound: bytes) -> bool:
    """Whether what is kept names a partition; volumes of several disks have other names."""
    by_guid = bound.startswith(_BY_GUID) and len(bound) == len(_BY_GUID) + 16
    return by_guid or len(bound) == _BY_PLACE


def _told(bound: bytes) -> str:
    if len(bound) != _BY_PLACE:
        return f"partition {uuid.UUID(bytes_le=bound[len(_BY_GUID) :])}"
    signature, at = (int.from_bytes(part, "little") for part in (bound[:4], bound[4:]))
    return f"byte {at} of disk {signature:08x}"


# What a sign-in needs: the programs that the settings name for it, the drive letter of the
# system's volume, the folders of accounts, and room.
#
# Without the first program a sign-in ends at once and the screen comes back; without the shell the
# desktop stays empty. A letter that now belongs to another volume has the first effect, too, for
# the programs are named with it.


_UNREAD = FindingId.SESSION_NOT_CHECKED
_LEAST_FREE = 64 * 1024 * 1024
"""Bytes; with less no page file and no account's settings can be written."""
_ACCOUNT = "s-1-5-21-"
"""How the names of accounts of people begin."""
_ASIDE = ".bak"
_MOST_ACCOUNTS = 256


class SignInChecks:
    """The check of a sign-in.

    Args:
        software: the hive of the system's programs; None where it could not be read.
    """

    def __init__(self, settings: NtSettings, software: Hive | None) -> None:
        self._settings, self._software = settings, software
        self._letters = frozenset[str]()
        # programs of a sign-in may be made for an older machine that this one can be, too
        self._start = msgspec.structs.replace(settings.start, machine=0)
        self._where = Where(path=settings.start.path("system32/config/software"))

    @not_followed(_UNREAD, "The sign-in")
    def sign_in(self) -> CheckResult:
        """Are its programs there, and does each account find its files?"""
        if self._software is None:
            says = "What runs at a sign-in is not read: the hive that tells it cannot be used."
            return not_checked(nt_finding(_UNREAD, Severity.NOTE, says, self._where))
        try:
            names, current = nt_names().sign_in, current_version(self._software)
            self._letters = letters_of(self._settings, current)
            sign_in, accounts = (
                current.child(name) if current is not None else None
                for name in (names.key, names.profiles)
            )
            findings = [
                *self._programs(sign_in),
                *letter_fault(self._settings, current),
                *self._accounts(accounts),
                *self._room(),
            ]
        except DamagedHiveError as error:
            says = f"What runs at a sign-in was not read: {error.says}"
            return not_checked(nt_finding(_UNREAD, Severity.NOTE, says, self._where))
        fatal = [each for each in findings if each.severity is Severity.FATAL]
        if fatal:
            rest = [each for each in findings if each is not fatal[0]]
            return failed(fatal[0]).with_findings(*rest)
        unread = [each for each in findings if each.id == _UNREAD]
        if unread:
            rest = [each for each in findings if each is not unread[0]]
            return not_checked(unread[0]).with_findings(*rest)
        says = "The programs of a sign-in are there."
        return passed(Phase.SESSION, says, self._where, None, tuple(findings))

    def _programs(self, key: Key | None) -> Iterator[Finding]:
        names = nt_names().sign_in
        if key is None:
            return
        for value in (names.programs, names.shell):
            written = [part.strip() for part in (key.text(value) or "").split(",")]
            listed = [part for part in written if part]
            if not listed:
                says = f"The settings name no program for {value} at a sign-in."
                missing = FindingId.SIGN_IN_PROGRAM_MISSING
                yield nt_finding(missing, Severity.WARNING, says, self._where)
            for rank, line in enumerate(listed):
                yield from self._program(value, line, rank)

    def _program(self, value: str, line: str, rank: int) -> Iterator[Finding]:
        if rank:
            says = f"A further program runs at every sign-in ({value}): {line}."
            added = FindingId.SIGN_IN_PROGRAM_ADDED
            yield nt_finding(added, Severity.WARNING, says, self._where)
        if is_elsewhere(self._letters, line):
            says = (
                f"{line}, which runs at a sign-in ({value}), is on a volume that is not looked at."
            )
            yield nt_finding(_UNREAD, Severity.NOTE, says, self._where)
            return
        places = self._places(line)
        programs = [found for path in places if (found := read_program(self._start, path))]
        severity = Severity.WARNING if rank else Severity.FATAL
        if not programs:
            says = f"{line}, which the settings name for a sign-in ({value}), is not there."
            missing = FindingId.SIGN_IN_PROGRAM_MISSING
            yield nt_finding(missing, severity, says, Where(path=places[0]))
        elif programs[0].unread:
            says = f"{programs[0].path}, which runs at a sign-in, was not checked:"
            says += f" {programs[0].unread}."
            yield nt_finding(_UNREAD, Severity.NOTE, says, programs[0].where)
        elif programs[0].why:
            says = f"{programs[0].path}, which runs at a sign-in, cannot run: {programs[0].why}."
            damaged = FindingId.SIGN_IN_PROGRAM_DAMAGED
            yield nt_finding(damaged, severity, says, programs[0].where)

    def _places(self, line: str) -> list[str]:
        """Where the program of a line may be, as paths of the system's volume."""
        path, is_whole = self._start.program(line)
        return (
            [path] if is_whole else [self._start.path(f"system32/{path}"), self._start.path(path)]
        )

    def _accounts(self, key: Key | None) -> Iterator[Finding]:
        environment, volume = self._start.environment, self._start.volume
        rows = [] if key is None else list(key.children())[:_MOST_ACCOUNTS]
        for row in rows:
            name, written = row.name.lower(), row.text("ProfileImagePath") or ""
            if not name.startswith(_ACCOUNT) or not written or is_elsewhere(self._letters, written):
                continue
            folder = self._folder(written)
            if name.endswith(_ASIDE):
                says = f"The settings of an account were set aside ({row.name}): it is given an"
                says += f" empty desktop instead of {folder}."
                aside = FindingId.PROFILE_SET_ASIDE
                yield nt_finding(aside, Severity.WARNING, says, self._where)
                continue
            hive = f"{folder}/{nt_names().sign_in.profile_hive}"
            if environment.find(volume, hive) is None:
                says = f"The account of {folder} has no settings there ({hive} is missing)."
                yield nt_finding(
                    FindingId.PROFILE_MISSING, Severity.WARNING, says, Where(path=hive)
                )

    def _folder(self, written: str) -> str:
        path, is_whole = self._start.located(written)
        return path if is_whole else f"/{path}"

    def _room(self) -> Iterator[Finding]:
        info = self._start.environment.contents(self._start.volume).info
        if info.used is None or not info.bytes or info.state is VolumeState.UNKNOWN:
            return
        free = info.bytes - info.used
        if free < min(_LEAST_FREE, info.bytes // 50):
            says = f"The system's volume has only {free} bytes left of {info.bytes}."
            yield nt_finding(FindingId.ROOT_FULL, Severity.WARNING, says)


def current_version(software: Hive | None) -> Key | None:
    """The key of the system in the hive of programs: two levels down, below maker and system; of
    several the one that names programs for a sign-in.

    Raises:
        DamagedHiveError
    """
    names = nt_names().sign_in
    for maker in software.root.children() if software is not None else ():
        for product in maker.children():
            found = product.child(names.current)
            key = found.child(names.key) if found is not None else None
            if key is not None and key.text(names.programs) is not None:
                return found
    return None


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
