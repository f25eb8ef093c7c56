"""The last link: an account that can sign in, and a shell for it.

Sources: the manual pages passwd(5), shadow(5), nologin(5) of shadow-utils and util-linux.
"""

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux.programs import Unfit, check_program
from mending.boot.rungs import Rung, finding
from mending.disk import Volume
from mending.model import Finding, Phase, PhaseState, Severity, Where, clean_text, hex_preview

_PHASE = Phase.SESSION
_ACCOUNTS, _SECRETS, _BARRED = "/etc/passwd", "/etc/shadow", "/etc/nologin"
_FIELDS = 7
_FIRST_PERSON, _NOBODY = 1000, 65534
_CLOSED_SHELLS = {"nologin", "false", "sync", "halt", "shutdown"}
_MADE_LATER = ("/run/", "/nix/var/")
"""Places that are filled only while the system starts; what will be there cannot be told."""
_DEFAULT_SHELL = "/bin/sh"


class Account(msgspec.Struct, frozen=True):
    """One account that may sign in. `line` counts from 1."""

    name: str
    shell: str
    line: int


class SignInLinks:
    """The link of one root volume."""

    def __init__(self, grounds: Grounds, volume: Volume) -> None:
        self._grounds, self._volume = grounds, volume

    def accounts(self) -> Rung:
        """Are the account files whole, and has at least one account a shell that can run?"""
        try:
            found, shells = self._look()
        except ElsewhereError as error:
            says = f"The accounts were not checked: {error}"
            one = finding("session-not-checked", _PHASE, Severity.NOTE, says)
            return Rung(phase=_PHASE, state=PhaseState.DOUBTFUL, says=says, findings=(one,))
        fatal = next((one for one in found if one.severity is Severity.FATAL), None)
        if fatal is not None:
            return Rung(
                phase=_PHASE, state=PhaseState.FAILED, says=fatal.says, where=fatal.where, findings=tuple(found)
            )
        says = f"The account files are whole; {', '.join(shells)} can be run for {'them' if len(shells) > 1 else 'it'}."
        return Rung(
            phase=_PHASE, state=PhaseState.PASSED, says=says, where=Where(path=_ACCOUNTS), findings=tuple(found)
        )

    def _look(self) -> tuple[list[Finding], list[str]]:
        table, secrets = (self._grounds.read(self._volume, path) for path in (_ACCOUNTS, _SECRETS))
        rows = table.decode("utf-8", errors="replace").splitlines()
        accounts = read_accounts(rows)
        found = self._damage(table, rows, accounts, secrets)
        if not accounts:
            return found, []
        bad = {one.shell: why for one in accounts if (why := self._shell_fault(one.shell))}
        for one in accounts:
            if one.shell in bad:
                every = all(other.shell in bad for other in accounts)
                severity = Severity.FATAL if every else Severity.WARNING
                says = f"The shell of {one.name}, {one.shell}, {bad[one.shell]}; that account cannot sign in."
                found.append(finding("shell-unfit", _PHASE, severity, says, Where(path=_ACCOUNTS, line=one.line)))
        return found, sorted({one.shell for one in accounts} - set(bad))

    def _damage(self, table: bytes, rows: list[str], accounts: list[Account], secrets: bytes) -> list[Finding]:
        found = []
        where = Where(path=_ACCOUNTS, length=len(table), hex=hex_preview(table[:16]) if table else None)
        if not table or not accounts:
            what = "is missing or empty" if not table else "holds no account that could sign in"
            return [finding("accounts-damaged", _PHASE, Severity.FATAL, f"{_ACCOUNTS} {what}.", where)]
        if not any(row.split(":")[2:3] == ["0"] for row in rows):
            says = f"{_ACCOUNTS} has no account with the number 0; services that need it fail."
            found.append(finding("accounts-damaged", _PHASE, Severity.FATAL, says, where))
        wrong = [number for number, row in enumerate(rows, 1) if row.strip() and row.count(":") != _FIELDS - 1
                 and row[0] not in "+-#"]  # fmt: skip
        if wrong:
            says = f"Line {wrong[0]} of {_ACCOUNTS} is no account: {clean_text(rows[wrong[0] - 1], 60)!r}."
            found.append(finding("account-row", _PHASE, Severity.WARNING, says, Where(path=_ACCOUNTS, line=wrong[0])))
        if any(row.split(":")[1:2] == ["x"] for row in rows) and b":" not in secrets:
            what = "is damaged" if secrets else "is missing or empty"
            says = f"{_SECRETS} {what}, and {_ACCOUNTS} says that passwords are there; nobody can sign in."
            found.append(finding("accounts-damaged", _PHASE, Severity.FATAL, says, Where(path=_SECRETS)))
        if self._grounds.find(self._volume, _BARRED) is not None:
            says = f"{_BARRED} is there, so only the administrator is let in."
            found.append(finding("sign-in-barred", _PHASE, Severity.WARNING, says, Where(path=_BARRED)))
        return found

    def _shell_fault(self, shell: str) -> str:
        found = self._grounds.find(self._volume, shell)
        if shell.startswith(_MADE_LATER):
            return ""
        if found is None or found.is_folder:
            return "is not there"
        try:
            check_program(self._grounds, self._volume, found)
        except Unfit as unfit:
            return unfit.says
        return ""


def read_accounts(rows: list[str]) -> list[Account]:
    """The administrator and the persons, without accounts whose shell is there to keep them out."""
    found = []
    for line, row in enumerate(rows, 1):
        fields = row.split(":")
        if len(fields) != _FIELDS or not fields[0] or not fields[2].isdecimal():
            continue
        number, shell = int(fields[2][:9]), fields[6].strip() or _DEFAULT_SHELL
        person = number == 0 or _FIRST_PERSON <= number < _NOBODY
        if person and shell.rpartition("/")[2] not in _CLOSED_SHELLS:
            found.append(Account(fields[0], shell, line))
    return found
