"""The checks behind init: modules of the kernel, mounts, the default target, room on the root."""

import msgspec

from mending.boot.chain import (
    NOWHERE,
    BootEnvironment,
    CheckResult,
    Link,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.linux.command_line import BARE_TARGETS, diversion
from mending.boot.linux.mount_findings import MountFindings
from mending.boot.linux.mounts import mount_table, option, unlock_table
from mending.boot.linux.sign_in import SignInChecks
from mending.boot.linux.units import UNIT_FOLDERS, UnitFindings
from mending.disk.files import FileFound
from mending.disk.volume import Volume
from mending.model import (
    Finding,
    FindingId,
    Phase,
    RepairId,
    Severity,
    Where,
    plain_size,
)

_MODULES = ("usr/lib/modules", "lib/modules")
_DEFAULT_TARGET = "default.target"
_UNREAD = FindingId.SESSION_NOT_CHECKED


class SystemChecks:
    """The checks of one root volume. `modules` is the first.

    Args:
        init: path of the program that is started first.
        version: of the kernel; empty where it does not tell.
        command_line: of the kernel, and `where` it was read.
    """

    def __init__(
        self,
        environment: BootEnvironment,
        volume: Volume,
        init: str,
        version: str,
        command_line: str,
        where: Where = NOWHERE,
    ) -> None:
        self._where = where
        self._environment, self._volume, self._init = environment, volume, init
        self._version, self._command_line = version, command_line

    @not_followed(_UNREAD, "The modules folder", lambda checks: checks.mounts, phase=Phase.KERNEL)
    def modules(self) -> CheckResult:
        """Has the root the modules of this kernel?"""
        top = next(filter(None, map(self._find, _MODULES)), None)
        if top is None or not self._version:
            says = "This kernel is taken to need no modules."
            return passed(Phase.KERNEL, says, then=self.mounts)
        where = Where(path=f"{top.path}/{self._version}")
        if self._find(f"{top.path}/{self._version}") is not None:
            return passed(Phase.KERNEL, f"Its modules are in {where.path}.", where, self.mounts)
        says = (
            f"The root has no modules of the kernel {self._version}; devices and file systems will"
            " be missing."
        )
        where = Where(path=top.path)
        missing = finding(FindingId.MODULES_MISSING, Severity.WARNING, says, where)
        return passed(Phase.KERNEL, says, where, self.mounts, (missing,))

    @not_followed(_UNREAD, "fstab", lambda checks: checks.default_target)
    def mounts(self) -> CheckResult:
        """Are the volumes there that fstab requires?"""
        table = self._environment.read_text(self._volume, "etc/fstab")
        locks = self._environment.read_text(self._volume, "etc/crypttab")
        rows, locked = list(mount_table(table)), list(unlock_table(locks))
        found = MountFindings(self._environment, rows, locked).all()
        says = "Every volume that fstab requires is there."
        if not self._environment.knows_names:
            says = "Whether the volumes of fstab are there cannot be told from a folder."
        return _judged(found, says, Where(path="/etc/fstab"), self.default_target)

    @not_followed(_UNREAD, "The default target", lambda checks: checks.free_space)
    def default_target(self) -> CheckResult:
        """Does the default target resolve, and to more than an emergency shell?"""
        diverted = diversion(self._command_line)
        if diverted:
            says = (
                f"The command line says {diverted}, so the start ends at an emergency shell and not"
                " at the sign-in."
            )
            in_text = self._where.path is not None and not self._where.path.endswith(".efi")
            repairs = (RepairId.START_WORD,) if in_text else ()
            diverting = FindingId.START_DIVERTED
            fault = finding(diverting, Severity.FATAL, says, self._where, repairs)
            return failed(fault, self.free_space)
        if "systemd" not in self._init:
            says = f"What {self._init} starts is not read; only systemd's targets are."
            return not_checked(finding(_UNREAD, Severity.NOTE, says), self.free_space)
        wanted = option(self._command_line, "systemd.unit") or _DEFAULT_TARGET
        places = [f"{folder}/{wanted}" for folder in UNIT_FOLDERS]
        found = next(filter(None, map(self._find, places)), None)
        if found is None:
            return self._no_target(wanted, places)
        where, name = Where(path=found.path), found.path.rpartition("/")[2]
        if name in BARE_TARGETS:
            says = f"The default target is {name}, an emergency shell and not the sign-in."
            repairs = (RepairId.DEFAULT_TARGET,) if wanted == _DEFAULT_TARGET else ()
            fault = finding(FindingId.GOAL_IS_BARE, Severity.FATAL, says, where, repairs)
            return failed(fault, self.free_space)
        says = f"The default target is {found.path}."
        return passed(Phase.SESSION, says, where, self.units)

    @not_followed(_UNREAD, "The units", lambda checks: checks.free_space)
    def units(self) -> CheckResult:
        """Does no unit that is started end the start, because its program is gone?"""
        found = UnitFindings(self._environment, self._volume).all()
        says = "No unit that is started ends the start."
        return _judged(found, says, Where(path=f"/{UNIT_FOLDERS[0]}"), self.free_space)

    def _no_target(self, wanted: str, places: list[str]) -> CheckResult:
        if self._environment.programs_apart(self._volume):
            says = "The default target lies on the volume mounted at /usr, which is not followed."
            return not_checked(finding(_UNREAD, Severity.NOTE, says), self.free_space)
        dangling = [path for path in places if self._environment.is_link(self._volume, path)]
        where = Where(path=f"/{(dangling or places)[0]}")
        what = "points at nothing" if dangling else "is in none of the folders for it"
        says = f"The default target, {wanted}, {what}; the start ends in emergency mode."
        repairs = (RepairId.DEFAULT_TARGET,) if wanted == _DEFAULT_TARGET else ()
        fault = finding(FindingId.GOAL_MISSING, Severity.FATAL, says, where, repairs)
        return failed(fault, self.free_space)

    def free_space(self) -> CheckResult:
        """Can the root be written, and is there room on it?"""
        then = SignInChecks(self._environment, self._volume).accounts
        space = self._environment.free_space(self._volume)
        if space is None:
            says = "Free space on the root was not checked: it is not told here."
            return not_checked(finding(_UNREAD, Severity.NOTE, says), then)
        found = []
        if not space.bytes or not space.inodes:
            what = "no free inode" if not space.inodes else "nothing free that anybody may use"
            says = f"The root is full: {what}; services and sign-in fail where they want to write."
            found.append(finding(FindingId.ROOT_FULL, Severity.WARNING, says, space.where))
        if space.never_written:
            says = "The root volume is marked so that it is never mounted for writing."
            found.append(finding(FindingId.ROOT_READ_ONLY, Severity.WARNING, says, space.where))
        says = f"{plain_size(space.bytes)} are free on the root."
        return _judged(found, says, space.where, then)

    def _find(self, path: str) -> FileFound | None:
        return self._environment.find(self._volume, path)


def _judged(found: list[Finding], says: str, where: Where, then: Link) -> CheckResult:
    """Broken by the first fatal finding; passed, with what else was found, where there is none."""
    for fault in found:
        if fault.severity is Severity.FATAL:
            return msgspec.structs.replace(failed(fault, then), findings=tuple(found))
    return passed(Phase.SESSION, says, where, then, tuple(found))
