"""The check of the program that the kernel starts first.

The command line may name it; else the kernel tries a few places in order, a bare shell last, which
counts as none. It has to be there, and the kernel has to be able to run it: for this machine, with
the loader that it names, whole.
"""

from mending.boot.chain import (
    NOWHERE,
    BootEnvironment,
    CheckResult,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.linux.libraries import Libraries
from mending.boot.linux.mounts import option
from mending.boot.linux.package_sums import changed_parts
from mending.boot.linux.programs import FIRST_PROGRAMS, UnfitReason, find_unfitness
from mending.boot.linux.system import SystemChecks
from mending.disk.files import FileFound
from mending.disk.system import PACKAGE_STATUS
from mending.disk.volume import Volume
from mending.model import Finding, FindingId, Phase, RepairId, Severity, Where, hex_preview

_INITS = ("sbin/init", "etc/init", "bin/init", "bin/sh")
"""What the kernel tries, in this order (init/main.c)."""


_UNFIT_INIT = {
    UnfitReason.NOT_EXECUTABLE: FindingId.INIT_NOT_EXECUTABLE,
    UnfitReason.LOADER_MISSING: FindingId.INIT_LOADER_MISSING,
    UnfitReason.LIBRARY_UNFIT: FindingId.INIT_LIBRARY_UNFIT,
    UnfitReason.DAMAGED: FindingId.INIT_DAMAGED,
}


class InitCheck:
    """The check of the program that the kernel starts first."""

    def __init__(
        self,
        environment: BootEnvironment,
        volume: Volume,
        command_line: str,
        version: str,
        where: Where = NOWHERE,
    ) -> None:
        self._where = where
        self._environment, self._volume = environment, volume
        self._command_line, self._version = command_line, version
        self._libraries = Libraries(environment, volume)

    @not_followed(FindingId.ROOT_NOT_CHECKED, "Whether an init is there")
    def init(self) -> CheckResult:
        """Is there an init that can be run?"""
        wanted = option(self._command_line, "init")
        names = (wanted,) if wanted else _INITS
        found = next(filter(None, map(self._find, names)), None)
        fault = self._judge(found, names)
        if fault is not None:
            if self._environment.programs_apart(self._volume):
                says = (
                    "Programs lie on a volume of their own, mounted at /usr, which is not followed."
                )
                return not_checked(finding(FindingId.ROOT_NOT_CHECKED, Severity.NOTE, says))
            return failed(fault)
        program = found.path if found else names[0]
        checks = SystemChecks(
            self._environment,
            self._volume,
            program,
            self._version,
            self._command_line,
            self._where,
        )
        loaded = len(self._libraries.loaded)
        libraries = f" with its {loaded} libraries" if loaded else ""
        says = f"{program} is there and can be run{libraries}."
        changed = changed_parts(self._environment, self._volume, {program, *self._libraries.loaded})
        return passed(Phase.KERNEL, says, Where(path=program), checks.modules, changed)

    def _find(self, path: str) -> FileFound | None:
        return self._environment.find(self._volume, path)

    def _judge(self, found: FileFound | None, names: tuple[str, ...]) -> Finding | None:
        volume = self._volume
        last_resort = len(names) > 1 and found is not None and self._find(names[-1]) == found
        if found is None or last_resort:
            tried = ", ".join("/" + name.lstrip("/") for name in names[: max(len(names) - 1, 1)])
            prompt = "; the kernel falls back on a bare shell" if last_resort else ""
            says = f"No init is on the root volume {volume.number}: {tried}{prompt}."
            where = Where(offset=volume.offset, path="/")
            missing = FindingId.INIT_MISSING
            return finding(missing, Severity.FATAL, says, where, self._restore())
        unfit = find_unfitness(self._environment, volume, found, self._libraries)
        if unfit is None:
            return None
        head = self._environment.read_head(volume, found.path, 16)
        where = Where(path=found.path, length=found.bytes, hex=hex_preview(head))
        where = Where(path=unfit.path) if unfit.path else where
        says = f"{found.path} {unfit.says}."
        kind = _UNFIT_INIT[unfit.reason]
        return finding(kind, Severity.FATAL, says, where, self._restore())

    def _restore(self) -> tuple[RepairId, ...]:
        """Where the system keeps the sums of its packages, or its first program is there."""
        places = (PACKAGE_STATUS, *FIRST_PROGRAMS, *(f"usr{path}" for path in FIRST_PROGRAMS))
        kept = any(self._find(path) is not None for path in places)
        return (RepairId.FILE_RESTORE,) if kept else ()
