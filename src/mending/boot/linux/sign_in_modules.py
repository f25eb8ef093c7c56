"""The program that asks for name and password at a text console, and the modules that it signs in
by.

Source: the manual pages pam.conf(5) and pam(8) of Linux-PAM.
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import BootEnvironment, OutOfReachError, finding
from mending.boot.linux.libraries import Libraries
from mending.boot.linux.programs import find_unfitness
from mending.disk.files import FileFound
from mending.disk.volume import Volume
from mending.model import Finding, FindingId, RepairId, Severity, Where

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
