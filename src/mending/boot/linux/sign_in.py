"""The last check: an account that can sign in, and a shell for it.

Sources: the manual pages passwd(5), shadow(5), nologin(5) of shadow-utils and util-linux.
"""

import msgspec

from mending.boot.chain import BootEnvironment, CheckResult, failed, finding, not_followed, passed
from mending.boot.linux.libraries import Libraries
from mending.boot.linux.package_sums import changed_parts
from mending.boot.linux.programs import find_unfitness
from mending.boot.linux.sign_in_modules import SignInModules
from mending.disk.volume import Volume
from mending.model import (
    Finding,
    FindingId,
    Phase,
    RepairId,
    Severity,
    Where,
    clean_text,
    hex_preview,
)

_ACCOUNTS, _SECRETS, _BARRED = "/etc/passwd", "/etc/shadow", "/etc/nologin"
_GROUPS, COPY_ENDING = "/etc/group", "-"
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


class SignInChecks:
    """The check of one root volume."""

    def __init__(self, environment: BootEnvironment, volume: Volume) -> None:
        self._environment, self._volume = environment, volume
        self._libraries = Libraries(environment, volume)

    @not_followed(FindingId.SESSION_NOT_CHECKED, "The list of accounts")
    def accounts(self) -> CheckResult:
        """Are the account files whole, and has at least one account a shell that can run?"""
        found, shells = self._look()
        modules = SignInModules(self._environment, self._volume, self._libraries)
        found += modules.findings()
        found += changed_parts(self._environment, self._volume, self._libraries.loaded)
        for fault in found:
            if fault.severity is Severity.FATAL:
                return msgspec.structs.replace(failed(fault), findings=tuple(found))
        whose = "them" if len(shells) > 1 else "it"
        says = f"The account files are whole; {', '.join(shells)} can be run for {whose}."
        where = Where(path=_ACCOUNTS)
        return passed(Phase.SESSION, says, where, findings=tuple(found))

    def _look(self) -> tuple[list[Finding], list[str]]:
        table, secrets = (
            self._environment.read(self._volume, path) for path in (_ACCOUNTS, _SECRETS)
        )
        rows = table.decode("utf-8", errors="replace").splitlines()
        accounts = read_accounts(rows)
        found = self._damage(table, rows, accounts, secrets)
        if not accounts:
            return found, []
        bad = {
            account.shell: why for account in accounts if (why := self._shell_fault(account.shell))
        }
        for account in accounts:
            if account.shell in bad:
                every = all(other.shell in bad for other in accounts)
                severity = Severity.FATAL if every else Severity.WARNING
                says = (
                    f"The shell of {account.name}, {account.shell}, {bad[account.shell]}; that"
                    " account cannot sign in."
                )
                found.append(
                    finding(
                        FindingId.SHELL_UNFIT,
                        severity,
                        says,
                        Where(path=_ACCOUNTS, line=account.line),
                    )
                )
        return found, sorted({account.shell for account in accounts} - set(bad))

    def _damage(
        self, table: bytes, rows: list[str], accounts: list[Account], secrets: bytes
    ) -> list[Finding]:
        found = []
        where = Where(
            path=_ACCOUNTS, length=len(table), hex=hex_preview(table[:16]) if table else None
        )
        if not table or not accounts:
            what = "is missing or empty" if not table else "holds no account that could sign in"
            return [
                finding(
                    FindingId.ACCOUNTS_DAMAGED,
                    Severity.FATAL,
                    f"{_ACCOUNTS} {what}.",
                    where,
                    self._copies(_ACCOUNTS),
                )
            ]
        if not any(row.split(":")[2:3] == ["0"] for row in rows):
            says = f"{_ACCOUNTS} has no account with the number 0; services that need it fail."
            fault = FindingId.ACCOUNTS_DAMAGED
            found.append(finding(fault, Severity.FATAL, says, where, self._copies(_ACCOUNTS)))
        wrong = [
            number
            for number, row in enumerate(rows, 1)
            if row.strip() and row.count(":") != _FIELDS - 1 and row[0] not in "+-#"
        ]
        if wrong:
            says = (
                f"Line {wrong[0]} of {_ACCOUNTS} is no account:"
                f" {clean_text(rows[wrong[0] - 1], 60)!r}."
            )
            found.append(
                finding(
                    FindingId.ACCOUNT_ROW,
                    Severity.WARNING,
                    says,
                    Where(path=_ACCOUNTS, line=wrong[0]),
                )
            )
        if any(row.split(":")[1:2] == ["x"] for row in rows) and b":" not in secrets:
            what = "is damaged" if secrets else "is missing or empty"
            says = (
                f"{_SECRETS} {what}, and {_ACCOUNTS} says that passwords are there; nobody can"
                " sign in."
            )
            fault, where = FindingId.ACCOUNTS_DAMAGED, Where(path=_SECRETS)
            found.append(finding(fault, Severity.FATAL, says, where, self._copies(_SECRETS)))
        groups = self._environment.find(self._volume, _GROUPS)
        if groups is not None and not groups.is_folder and groups.bytes == 0:
            says = f"{_GROUPS} is empty; services that run as a group of their own fail."
            fault, where = FindingId.ACCOUNTS_DAMAGED, Where(path=_GROUPS)
            found.append(finding(fault, Severity.WARNING, says, where, self._copies(_GROUPS)))
        if self._environment.find(self._volume, _BARRED) is not None:
            says = f"{_BARRED} is there, so only the administrator is let in."
            found.append(
                finding(FindingId.SIGN_IN_BARRED, Severity.WARNING, says, Where(path=_BARRED))
            )
        return found

    def _copies(self, path: str) -> tuple[RepairId, ...]:
        """Where the copy is that the programs of accounts keep of the state before."""
        there = self._environment.find(self._volume, f"{path}{COPY_ENDING}") is not None
        return (RepairId.ACCOUNT_COPY,) if there else ()

    def _shell_fault(self, shell: str) -> str:
        found = self._environment.find(self._volume, shell)
        if shell.startswith(_MADE_LATER):
            return ""
        if found is None or found.is_folder:
            return "is not there"
        unfit = find_unfitness(self._environment, self._volume, found, self._libraries)
        return unfit.says if unfit is not None else ""


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
