"""The last check: an account that can sign in, and a shell for it.

Sources: the manual pages passwd(5), shadow(5), nologin(5) of shadow-utils and util-linux.
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    OutOfReachError,
    failed,
    finding,
    not_followed,
    passed,
)
from mending.boot.linux.programs import Libraries, changed_parts, find_unfitness
from mending.disk.files import FileFound
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

# The program that asks for name and password at a text console, and the modules that it signs in
# by.
#
# Source: the manual pages pam.conf(5) and pam(8) of Linux-PAM.


_PROGRAMS = ("bin/login", "usr/bin/login")
_SERVICE, _RULES = "login", "etc/pam.d"
_DISPLAY = "etc/systemd/system/display-manager.service"
_FOLDERS = (
    *("lib/x86_64-linux-gnu/security", "usr/lib/x86_64-linux-gnu/security"),
    *("lib64/security", "usr/lib64/security", "lib/security", "usr/lib/security"),
)
_ALWAYS_NEEDED = "pam_unix.so"
"""What compares the password; without it nobody gets in, whatever the rule says of its failing."""
_ASKED = {"auth", "account", "session"}
_MOST_ROWS, _MOST_SERVICES = 256, 32


class _Rule(msgspec.Struct, frozen=True):
    """A row of a stack. `line` counts from 1 in the file `path`."""

    control: str
    module: str
    path: str
    line: int

    @property
    def needed(self) -> bool:
        """Whether the sign-in fails where the module cannot be loaded."""
        if self.control.startswith("["):
            bad = "default=bad" in self.control or "default=die" in self.control
            return bad and "module_unknown" not in self.control
        return self.control in {"required", "requisite"}


class SignInModules:
    """The checks of one root volume."""

    def __init__(self, environment: BootEnvironment, volume: Volume, libraries: Libraries) -> None:
        self._environment, self._volume, self._libraries = environment, volume, libraries

    def findings(self) -> list[Finding]:
        """What keeps people from signing in at a console. Raises OutOfReachError."""
        program = next(filter(None, map(self._find, _PROGRAMS)), None)
        rules = self._find(f"{_RULES}/{_SERVICE}")
        if self._environment.programs_apart(self._volume) or (program is None and rules is None):
            return []
        found = self._of_program(program) if program is not None else self._no_program()
        for rule in self._rules(_SERVICE, set()):
            if rule.needed or rule.module.endswith(_ALWAYS_NEEDED):
                found += self._of_module(rule)
        return found

    def _of_program(self, program: FileFound) -> list[Finding]:
        unfit = find_unfitness(self._environment, self._volume, program, self._libraries)
        if unfit is None:
            return []
        drawn = self._environment.is_link(self._volume, _DISPLAY)
        severity = Severity.WARNING if drawn else Severity.FATAL
        says = f"{program.path} {unfit.says}; nobody can sign in at a console."
        where = Where(path=unfit.path or program.path)
        return [finding(FindingId.LOGIN_UNFIT, severity, says, where, (RepairId.FILE_RESTORE,))]

    def _no_program(self) -> list[Finding]:
        drawn = self._environment.is_link(self._volume, _DISPLAY)
        severity = Severity.WARNING if drawn else Severity.FATAL
        says = f"/{_PROGRAMS[0]} is not there; nobody can sign in at a console."
        where = Where(path=f"/{_PROGRAMS[1]}")
        return [finding(FindingId.LOGIN_UNFIT, severity, says, where, (RepairId.FILE_RESTORE,))]

    def _of_module(self, rule: _Rule) -> list[Finding]:
        places = (f"{folder}/{rule.module}" for folder in _FOLDERS)
        named = [rule.module] if rule.module.startswith("/") else places
        module = next(filter(None, map(self._find, named)), None)
        if module is None:
            why, path = "is not there", f"/{_FOLDERS[1]}/{rule.module}"
        else:
            fault = self._libraries.fault_of_loader(module) or self._libraries.fault(module)
            if fault is None:
                return []
            why, path = fault.says.removeprefix(f"asks for {module.path}, which "), fault.path
        says = (
            f"The sign-in needs the module {rule.module} ({rule.path}, line {rule.line}), which"
            f" {why}; nobody can sign in."
        )
        unfit = FindingId.SIGN_IN_MODULE_UNFIT
        repairs = (RepairId.FILE_RESTORE,)
        return [finding(unfit, Severity.FATAL, says, Where(path=path), repairs)]

    def _rules(self, service: str, seen: set[str]) -> Iterator[_Rule]:
        """The rules of a service in their order, with those of the services that it includes: each
        once, for services may include each other.
        """
        if service in seen or len(seen) >= _MOST_SERVICES:
            return
        seen.add(service)
        path = f"{_RULES}/{service}"
        rows = self._environment.read_text(self._volume, path).splitlines()
        for line, row in enumerate(rows[:_MOST_ROWS], 1):
            words = row.split("#")[0].split()
            if not words:
                continue
            if words[0] == "@include" and len(words) > 1:
                yield from self._rules(words[1], seen)
                continue
            control = words[1] if len(words) > 1 else ""
            while control.startswith("[") and not control.endswith("]") and len(words) > 2:
                control = f"{control} {words.pop(2)}"
            if words[0] not in _ASKED or len(words) < 3:
                continue
            if control in {"include", "substack"}:
                yield from self._rules(words[2], seen)
            else:
                yield _Rule(control, words[2], f"/{path}", line)

    def _find(self, path: str) -> FileFound | None:
        try:
            return self._environment.find(self._volume, path)
        except OutOfReachError:
            return None


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
