"""The checks behind init: modules of the kernel, mounts, the default target, room on the root."""

import re
from collections.abc import Iterator, Sequence

import msgspec

from mending.boot.chain import (
    NOWHERE,
    BootEnvironment,
    CheckResult,
    Link,
    OutOfReachError,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.linux.mounts import (
    BARE_TARGETS,
    Mount,
    diversion,
    mount_table,
    option,
    unlock_table,
)
from mending.boot.linux.sign_in import SignInChecks
from mending.disk.files import FileFound
from mending.disk.layout import find_unlisted_volumes
from mending.disk.volume import Volume
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Phase,
    RepairId,
    Severity,
    Where,
    plain_size,
)

# Units of systemd that would restart the PC, or themselves, for ever.
#
# A unit may ask for a restart of the whole PC where it fails (`FailureAction=` and its relatives).
# If its program is not there, it fails at every start, so the PC never gets to its sign-in. One
# that restarts itself without a limit keeps the PC busy, and no more.
#
# Only units that something starts are looked at: those that a target on the way to the sign-in
# wants or requires by a link. One with conditions may be skipped, which the disk does not tell.
#
# Sources: the manual pages systemd.unit(5) ("FailureAction=", "StartLimitIntervalSec=", "Unit File
# Load Path"), systemd.service(5) ("Restart=", "ExecStart=").


UNIT_FOLDERS = (
    "etc/systemd/system",
    "run/systemd/system",
    "usr/local/lib/systemd/system",
    "usr/lib/systemd/system",
    "lib/systemd/system",
)
"""Where units are looked for, first found first taken."""
_WANTING = re.compile(r".+\.target\.(?:wants|requires)")
_NOT_ON_THE_WAY = re.compile(
    r"(?:reboot|poweroff|halt|kexec|shutdown|rescue|emergency|suspend|hibernate|sleep|hybrid-sleep"
    r"|initrd.*|exit|final|umount|system-update.*)\.target\."
)
_ENDING = re.compile(r"(?:reboot|poweroff|halt|kexec|exit|soft-reboot)(?:-force|-immediate)?")
_ACTIONS = ("FailureAction", "StartLimitAction")
_ENDING_TARGETS = {"reboot.target", "poweroff.target", "halt.target", "kexec.target"}
_MOST_UNITS = 1024
_EXECUTED = ("ExecCondition", "ExecStartPre", "ExecStart")
_FOR_EVER = {"0", "0s", "infinity"}


class Unit(msgspec.Struct, frozen=True):
    """A unit file with what was added to it. `settings` are rows of key, value and the line."""

    name: str
    path: str
    settings: tuple[tuple[str, str, int], ...]

    def last(self, *keys: str) -> tuple[str, int]:
        """The value in force of one of these keys, and its line; empty where none is set."""
        rows = [(value, line) for key, value, line in self.settings if key in keys]
        return rows[-1] if rows else ("", 0)

    @property
    def has_conditions(self) -> bool:
        """Whether it may be skipped."""
        return any(key.startswith(("Condition", "Assert")) for key, _, _ in self.settings)

    def programs(self) -> list[str]:
        """Programs without which it fails; those that may fail are left out."""
        found: list[str] = []
        for key, value, _ in self.settings:
            if key in _EXECUTED:
                found = found if value else []
                word = value.split()[0] if value else ""
                plain = word.lstrip("@:+!|")
                if plain.startswith("/") and "%" not in plain and "$" not in plain:
                    found.append(plain)
        return found


class UnitFindings:
    """The findings on the units of one root."""

    def __init__(self, environment: BootEnvironment, volume: Volume) -> None:
        self._environment, self._volume = environment, volume

    def all(self) -> list[Finding]:
        """Units whose program is gone and that take the PC with them. Raises OutOfReachError."""
        found = []
        for name in self._started():
            unit = self._read(name)
            if unit is None or unit.has_conditions:
                continue
            lost = next((path for path in unit.programs() if self._find(path) is None), None)
            if lost is not None:
                found += self._of(unit, lost)
        return found

    def _of(self, unit: Unit, lost: str) -> list[Finding]:
        action, line = unit.last(*_ACTIONS)
        behind, behind_line = unit.last("OnFailure")
        ends = set(behind.split()) & _ENDING_TARGETS
        if _ENDING.fullmatch(action) or ends:
            what = action or f"OnFailure={' '.join(sorted(ends))}"
            says = (
                f"{unit.name} starts {lost}, which is not there, and asks for {what} when it"
                " fails: the PC ends every start there."
            )
            where = Where(path=unit.path, line=line or behind_line)
            fatal = FindingId.UNIT_ENDS_START
            return [finding(fatal, Severity.FATAL, says, where, (RepairId.UNIT_OFF,))]
        restart, line = unit.last("Restart")
        limit, _ = unit.last("StartLimitIntervalSec", "StartLimitInterval")
        if restart in {"always", "on-failure"} and limit in _FOR_EVER:
            says = f"{unit.name} starts {lost}, which is not there, and tries again for ever."
            where = Where(path=unit.path, line=line)
            return [finding(FindingId.UNIT_RESTARTS, Severity.WARNING, says, where)]
        return []

    def _started(self) -> list[str]:
        """Names of the units that targets want."""
        names: dict[str, None] = {}
        for folder in UNIT_FOLDERS:
            for each in self._inside(folder):
                name = each.path.rpartition("/")[2]
                if _WANTING.fullmatch(name) and not _NOT_ON_THE_WAY.match(name):
                    rows = self._inside(each.path)
                    names |= dict.fromkeys(row.path.rpartition("/")[2] for row in rows)
        return [name for name in names if name.endswith(".service")][:_MOST_UNITS]

    def _read(self, name: str) -> Unit | None:
        """A unit with its drop-ins; None where it is not there, or turned off."""
        plain = re.sub(r"@[^.]*\.", "@.", name)
        for folder in UNIT_FOLDERS:
            for each in (name, plain):
                found = self._find(f"{folder}/{each}")
                if found is None:
                    if self._environment.is_link(self._volume, f"{folder}/{each}"):
                        return None  # a link to nothing: it is off
                    continue
                settings = [*self._settings(found.path)]
                for home in UNIT_FOLDERS:
                    for more in self._inside(f"{home}/{name}.d"):
                        settings += self._settings(more.path) if more.path.endswith(".conf") else ()
                return Unit(name, found.path, tuple(settings))
        return None

    def _settings(self, path: str) -> Iterator[tuple[str, str, int]]:
        text = self._environment.read_text(self._volume, path)
        for number, row in enumerate(text.splitlines(), 1):
            key, equals, value = row.partition("=")
            if equals and not row.lstrip().startswith(("#", ";")):
                yield key.strip(), value.strip(), number

    def _inside(self, folder: str) -> list[FileFound]:
        inside = self._environment.listing(self._volume, folder)
        return sorted(inside, key=lambda each: each.path)

    def _find(self, path: str) -> FileFound | None:
        return self._environment.find(self._volume, path)


# What is wrong with the mounts that an installed system asks for: rows of its fstab, and of the
# table of encrypted volumes below them.
#
# A row stops the start only where systemd requires it: not with `nofail` or `noauto`, not where an
# automount waits for the first use, and not where it counts as a network's (systemd.mount(5),
# "fstab"; fstab(5); crypttab(5)).


_FSTAB, _CRYPTTAB = "/etc/fstab", "/etc/crypttab"
_TYPES = {
    "ext2": FilesystemKind.EXT,
    "ext3": FilesystemKind.EXT,
    "ext4": FilesystemKind.EXT,
    "xfs": FilesystemKind.XFS,
    "btrfs": FilesystemKind.BTRFS,
    "ntfs": FilesystemKind.NTFS,
    "ntfs3": FilesystemKind.NTFS,
    "ntfs-3g": FilesystemKind.NTFS,
    "exfat": FilesystemKind.EXFAT,
}
"""What rows call the kinds that their volumes must have."""
_FAT_TYPES = {"vfat", "msdos"}
_MADE_OF_ANY = {FilesystemKind.UNKNOWN, FilesystemKind.BLANK, FilesystemKind.UNREADABLE}


class MountFindings:
    """The findings on both tables of one system.

    Args:
        rows: of its fstab. locks: rows of the table of encrypted volumes.
    """

    def __init__(
        self, environment: BootEnvironment, rows: Sequence[Mount], locks: Sequence[Mount]
    ) -> None:
        self._environment, self._rows, self._locks = environment, rows, locks

    def all(self) -> list[Finding]:
        """Those of the fstab first."""
        found = [fault for row in self._rows for fault in self._of_row(row)]
        return found + [fault for row in self._locks for fault in self._of_lock(row)]

    def _of_row(self, row: Mount) -> list[Finding]:
        where, name = Where(path=_FSTAB, line=row.line), row.name
        if name.kind == "device":
            says = (
                f"fstab names {name.value} for {row.point}, which may mean another volume next"
                " time."
            )
            fragile = FindingId.MOUNT_NAME_FRAGILE
            return [finding(fragile, Severity.WARNING, says, where)]
        if row.point == "/" and "ro" in row.options:
            says = (
                "fstab wants the root read-only, so nothing can be saved and much will not start."
            )
            return [finding(FindingId.ROOT_READ_ONLY, Severity.WARNING, says, where)]
        if name.kind == "other" or not self._environment.knows_names or row.filesystem == "swap":
            return self._of_swap(row) if row.filesystem == "swap" else []
        if name.kind == "mapped":
            return self._of_mapped(row)
        found = self._environment.named(name.kind, name.value)
        if found:
            return self._of_volume(row, self._environment.inside(found[0]))
        says = f"fstab wants {name.kind} {name.value} for {row.point}, which no volume has"
        return [self._missing(row, says)]

    def _of_swap(self, row: Mount) -> list[Finding]:
        name = row.name
        if name.kind in {"other", "mapped", "device"} or not self._environment.knows_names:
            return []
        if self._environment.named(name.kind, name.value):
            return []
        says = f"fstab wants {name.kind} {name.value} for {row.point}, which no volume has"
        return [self._missing(row, says)]

    def _missing(self, row: Mount, says: str) -> Finding:
        hidden = bool(self._environment.unknown())
        stops = row.required and row.point != "/" and not hidden
        may = "; it may be one that cannot be read" if hidden else ""
        missing, severity = FindingId.MOUNT_MISSING, Severity.FATAL if stops else Severity.WARNING
        where = Where(path=_FSTAB, line=row.line)
        return finding(missing, severity, f"{says}{may}.", where, self._answers(stops))

    def _answers(self, stops: bool) -> tuple[RepairId, ...]:
        """Where a volume lies that no entry lists, the entry comes first."""
        disk = self._environment.disk
        if not stops:
            return ()
        if disk is not None and find_unlisted_volumes(disk):
            return (RepairId.PARTITION_TABLE, RepairId.MOUNT_OPTIONAL)
        return (RepairId.ROOT_NAME, RepairId.MOUNT_OPTIONAL)

    def _of_mapped(self, row: Mount) -> list[Finding]:
        """A logical or unlocked volume: its name comes from a group or from the other table."""
        name, environment = row.name.value, self._environment
        if environment.named("mapped", name):
            return self._of_volume(row, environment.named("mapped", name)[0])
        groups = {
            known
            for volume in environment.volumes
            for known in environment.contents(volume).info.logical
        }
        if name in groups or any(lock.point == name for lock in self._locks):
            return []  # what unlocks it is judged by its own row
        return [self._missing(row, f"fstab wants {name} for {row.point}, which nothing makes")]

    def _of_volume(self, row: Mount, volume: Volume) -> list[Finding]:
        """What the kernel would refuse when it mounts the volume that is there."""
        if row.point == "/":
            return []  # it is mounted by then, with what the command line says
        why = self._of_type(row, volume) or self._of_subvolume(row, volume)
        if not why:
            return []
        where = Where(path=_FSTAB, line=row.line)
        severity = Severity.FATAL if row.required else Severity.WARNING
        repairs = (RepairId.MOUNT_OPTIONAL,) if row.required else ()
        says = f"fstab wants volume {volume.number} for {row.point}, but {why}."
        return [finding(FindingId.MOUNT_REFUSED, severity, says, where, repairs)]

    @staticmethod
    def _of_type(row: Mount, volume: Volume) -> str:
        if volume.filesystem in _MADE_OF_ANY:
            return ""
        wanted = _TYPES.get(row.filesystem)
        fits = volume.kind.is_fat if row.filesystem in _FAT_TYPES else volume.filesystem is wanted
        if (wanted is None and row.filesystem not in _FAT_TYPES) or fits:
            return ""
        return f"as {row.filesystem}, while {volume.filesystem} is on it"

    def _of_subvolume(self, row: Mount, volume: Volume) -> str:
        """Source: btrfs(5), "Mount Options"."""
        given = [each for each in row.options if each.startswith("subvol=")]
        name = given[0].partition("=")[2].strip("/") if given else ""
        if volume.filesystem is not FilesystemKind.BTRFS or not name:
            return ""
        whole = msgspec.structs.replace(volume, top="")
        try:
            there = self._environment.find(whole, name)
        except OutOfReachError:
            return ""
        return "" if there is not None else f"its subvolume {name}, which is not there"

    def _of_lock(self, row: Mount) -> list[Finding]:
        """An encrypted volume that is to be unlocked and is not there: the start waits for it, and
        stops where it needs what is inside.
        """
        name, environment = row.name, self._environment
        told = name.kind in {"uuid", "label", "partuuid", "partlabel"} and environment.knows_names
        if not told or not row.required or environment.named(name.kind, name.value):
            return []
        needing = [
            mount
            for mount in self._rows
            if mount.name.kind == "mapped" and mount.name.value == row.point and mount.required
        ]
        says = (
            f"The table of encrypted volumes wants {name.value} for {row.point}, which no volume is"
        )
        severity = Severity.WARNING
        if needing:
            severity = Severity.FATAL
            says += f"; fstab needs what is inside for {needing[0].point}"
        where, missing = Where(path=_CRYPTTAB, line=row.line), FindingId.UNLOCK_MISSING
        return [finding(missing, severity, f"{says}.", where, phase=Phase.SESSION)]


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
