"""What a sign-in needs: the programs that the settings name for it, the drive letter of the
system's volume, the folders of accounts, and room.

Without the first program a sign-in ends at once and the screen comes back; without the shell the
desktop stays empty. A letter that now belongs to another volume has the first effect, too, for the
programs are named with it.
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import CheckResult, failed, not_checked, not_followed, passed
from mending.boot.nt.letters import is_elsewhere, letter_fault, letters_of
from mending.boot.nt.start import NtSettings, nt_finding, read_program
from mending.disk.hives import Hive, Key
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Finding, FindingId, Phase, Severity, VolumeState, Where

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
