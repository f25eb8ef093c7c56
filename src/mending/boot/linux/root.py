"""The checks behind a loaded kernel: the root volume and its init.

The command line names the root in one of many ways, and who has to understand it differs: the
kernel alone knows partition identifiers and device names, labels and file-system identifiers need
an initramfs. Each way is looked up as its reader would, on this disk. A name that nothing bears is
a fault only where everything was read in which it could be: behind a lock or in a group of volumes
with a missing disk it stays open. Then comes what mounting would ask (the length of the file
system, the subvolume), and the program that the kernel starts first.
"""

import re
from collections.abc import Callable

import msgspec

from mending.boot.chain import (
    NOWHERE,
    BootEnvironment,
    CheckResult,
    Link,
    OutOfReachError,
    doubtful,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.linux.mounts import (
    VolumeName,
    command_line_findings,
    option,
    parse_name,
    unlocked_names,
)
from mending.boot.linux.programs import (
    FIRST_PROGRAMS,
    Libraries,
    UnfitReason,
    changed_parts,
    find_unfitness,
)
from mending.boot.linux.system import SystemChecks
from mending.disk.files import FileFound
from mending.disk.layout import find_unlisted_volumes
from mending.disk.system import PACKAGE_STATUS
from mending.disk.volume import DEFAULT_TOP, Volume
from mending.model import (
    FilesystemKind,
    Finding,
    FindingId,
    Phase,
    RepairId,
    Severity,
    Where,
    hex_preview,
)

# The check of the program that the kernel starts first.
#
# The command line may name it; else the kernel tries a few places in order, a bare shell last,
# which counts as none. It has to be there, and the kernel has to be able to run it: for this
# machine, with the loader that it names, whole.


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


_NUMBER = re.compile(r"(?:[a-z]|p)(\d{1,3})$")
"""The partition's number at the end of a plain device name."""
_TOP_SUBVOLUME = "5"
_SUPERBLOCK_BYTES = 512


def _nothing_lacks(_root: Volume) -> Finding | None:
    return None


class RootChecks:
    """The checks of one command line. `root` is the first.

    Args:
        command_line: of the kernel, and `where` it was read.
        has_initramfs: whether an initramfs is loaded.
        version: of the kernel; empty where it does not tell.
        judge_inside: tells what the initramfs lacks of what a root needs.
    """

    def __init__(
        self,
        environment: BootEnvironment,
        command_line: str,
        where: Where,
        has_initramfs: bool,
        version: str = "",
        judge_inside: Callable[[Volume], Finding | None] = _nothing_lacks,
    ) -> None:
        self._judge_inside = judge_inside
        self._environment, self._command_line, self._where = environment, command_line, where
        self._has_initramfs, self._version = has_initramfs, version

    def root(self) -> CheckResult:
        """Is there a volume of the name that the command line gives?"""
        others = command_line_findings(self._environment, self._command_line, self._where)
        return self._root().with_findings(*others)

    def _root(self) -> CheckResult:
        given = option(self._command_line, "root")
        if not self._environment.knows_names:
            volume = self._environment.volumes[0]
            says = (
                f"The root is taken to be this folder; whether {given or 'its name'} names it"
                " cannot be told."
            )
            return passed(Phase.KERNEL, says, then=self._init(volume))
        if given is None:
            return self._not_checked(
                "The command line names no root; what starts from the initramfs is not read."
            )
        name = parse_name(given)
        if name.kind == "other":
            return self._not_checked(
                f"root={given}: whether that is there cannot be told from the disk."
            )
        if name.kind == "mapped":
            return self._mapped(given, name)
        if name.kind == "device":
            return self._device(given)
        return self._by_name(given, name)

    def _by_name(self, given: str, name: VolumeName) -> CheckResult:
        """`UUID=`, `LABEL=`, `PARTUUID=`, `PARTLABEL=`; the kernel itself knows only the last
        two.
        """
        if name.kind in {"uuid", "label"} and not self._has_initramfs:
            says = f"root={given} needs an initramfs to be understood, and none is loaded."
            unknown = FindingId.ROOT_NAME_UNKNOWN
            return failed(finding(unknown, Severity.FATAL, says, self._where))
        found = self._environment.named(name.kind, name.value)
        if len(found) > 1:
            says = f"root={given} is the name of {len(found)} volumes."
            twice = FindingId.ROOT_NAME_TWICE
            return doubtful(finding(twice, Severity.WARNING, says, self._where))
        if not found:
            return self._no_root(given, name)
        return self._check_root(found[0])

    def _device(self, given: str) -> CheckResult:
        """A plain device name: on a PC with one drive, the partition of that number."""
        says = (
            f"root={given} is a plain device name, which may mean another volume at the next start."
        )
        fragile = FindingId.ROOT_NAME_FRAGILE
        number = _NUMBER.search(given)
        volume = self._environment.numbered(int(number.group(1))) if number else None
        if volume is None:
            says = f"{says} This disk has no such volume."
            return doubtful(finding(fragile, Severity.WARNING, says, self._where))
        note = finding(fragile, Severity.WARNING, says, self._where)
        return self._check_root(volume).with_findings(note)

    def _mapped(self, given: str, name: VolumeName) -> CheckResult:
        """A logical volume, or an unlocked one: of that only its name can be checked."""
        environment = self._environment
        found = environment.named("mapped", name.value) or environment.meant(name.value)
        if found:
            return self._check_root(found[0])
        for volume in environment.volumes:
            if name.value in environment.contents(volume).info.logical:
                why = self._why([volume]) or ", of a kind or in a place that is not read"
                says = f"The root is a logical volume inside volume {volume.number}{why}."
                return self._not_checked(says)
        locked = [each for each in environment.volumes if each.filesystem is FilesystemKind.LUKS]
        fault = self._judge_inside(locked[0]) if len(locked) == 1 else None
        if fault is not None:
            return failed(fault)
        if name.value in unlocked_names(environment, self._command_line):
            return self._not_checked(
                "The root is an encrypted volume of this disk, which cannot be read without its"
                " key."
            )
        if environment.unknown() and not self._all_groups_read():
            return self._not_checked(f"root={given} may lie inside a volume that cannot be read.")
        says = f"root={given} is the name of no volume on this disk."
        repairs = self._answers_a_lost_root()
        return failed(finding(FindingId.ROOT_MISSING, Severity.FATAL, says, self._where, repairs))

    def _why(self, hidden: list[Volume]) -> str:
        reasons = dict.fromkeys(filter(None, map(self._environment.why_hidden, hidden)))
        return f" ({'; '.join(reasons)})" if reasons else ""

    def _all_groups_read(self) -> bool:
        return all(
            volume.filesystem is FilesystemKind.LVM
            and bool(self._environment.contents(volume).info.group)
            for volume in self._environment.unknown()
        )

    def _no_root(self, given: str, name: VolumeName) -> CheckResult:
        lost = self._environment.lost_volume(name.value)
        if lost is not None:
            says = (
                f"The root volume {lost.number} has lost its first superblock, so root={given} is"
                " not found."
            )
            where = Where(offset=lost.offset + lost.kind.first_structure, length=_SUPERBLOCK_BYTES)
            kind, repairs = FindingId.ROOT_SUPERBLOCK_LOST, (RepairId.SUPERBLOCK,)
            return failed(finding(kind, Severity.FATAL, says, where, repairs))
        hidden = self._environment.unknown()
        if hidden:
            numbers = " or ".join(str(volume.number) for volume in hidden)
            return self._not_checked(
                f"root={given} is no volume that can be read; it may lie in volume"
                f" {numbers}{self._why(hidden)}."
            )
        says = f"root={given} is the name of no volume on this disk."
        fault = finding(
            FindingId.ROOT_MISSING, Severity.FATAL, says, self._where, self._answers_a_lost_root()
        )
        return failed(fault)

    def _answers_a_lost_root(self) -> tuple[RepairId, ...]:
        """Where a volume lies that no entry lists, the entry comes first. Whether a name inside a
        loader file can be changed, which may be signed, the repair says.
        """
        disk = self._environment.disk
        if disk is not None and find_unlisted_volumes(disk):
            return (RepairId.PARTITION_TABLE,)
        return (RepairId.ROOT_NAME,)

    def _check_root(self, volume: Volume) -> CheckResult:
        if option(self._command_line, "ostree") is not None:
            return self._not_checked(
                f"The system is one of several trees kept in volume {volume.number}; it is not"
                " followed."
            )
        fault = self._too_short(volume) or self._judge_inside(volume)
        if fault is not None:
            return failed(fault, self._init(volume))
        try:
            inside = self._subvolume(volume)
        except OutOfReachError as error:
            return self._not_checked(f"The root is volume {volume.number}: {error}")
        if isinstance(inside, CheckResult):
            return inside
        volume = inside
        part = f", subvolume {volume.top}" if volume.top not in {"", DEFAULT_TOP} else ""
        says = f"The root is volume {volume.number} ({volume.filesystem}){part}."
        return passed(Phase.KERNEL, says, Where(offset=volume.offset), self._init(volume))

    def _subvolume(self, volume: Volume) -> Volume | CheckResult:
        """The subvolume that is the root, by the options with which it is mounted; the default one
        where they name none. Source: btrfs(5), "Mount Options".
        """
        if volume.filesystem is not FilesystemKind.BTRFS:
            return volume
        words = dict(
            word.partition("=")[::2]
            for word in (option(self._command_line, "rootflags") or "").split(",")
        )
        name = words.get("subvol", "").strip("/")
        if words.get("subvolid", _TOP_SUBVOLUME) != _TOP_SUBVOLUME:
            return self._not_checked(
                f"The root is subvolume {words['subvolid']} of volume {volume.number}, named by its"
                " number; it is not followed."
            )
        if name and self._environment.find(volume, name) is None:
            says = (
                f"The root is to be the subvolume {name} of volume {volume.number}, which is not"
                " there."
            )
            lost, repairs = FindingId.ROOT_SUBVOLUME_MISSING, self._answers_a_lost_root()
            repairs = tuple(each for each in repairs if each is RepairId.ROOT_NAME)
            return failed(finding(lost, Severity.FATAL, says, self._where, repairs))
        whole = "subvolid" in words or "subvol" in words
        top = name if whole else DEFAULT_TOP
        return msgspec.structs.replace(volume, top=top)

    def _too_short(self, volume: Volume) -> Finding | None:
        """A file system that is longer than what is left of its volume: the kernel refuses to
        mount it (tried: `docs/firmware.md`).
        """
        believed, disk = self._environment.contents(volume).info.bytes, self._environment.disk
        where = Where(offset=volume.entry_offset, length=16)
        if disk is not None and volume.start + volume.sectors > disk.sectors:
            left = disk.sectors * disk.source.bytes_per_sector - volume.offset
            if believed > left:
                says = (
                    f"The disk ends {believed - left} bytes before the root volume"
                    f" {volume.number} does; the kernel refuses to mount it."
                )
                return finding(FindingId.ROOT_CUT_SHORT, Severity.FATAL, says, where)
        if believed > volume.bytes:
            says = (
                f"The root volume {volume.number} believes to be longer than its entry; the kernel"
                " refuses to mount it."
            )
            larger, repairs = FindingId.ROOT_LARGER_THAN_ENTRY, (RepairId.PARTITION_TABLE,)
            return finding(larger, Severity.FATAL, says, where, repairs)
        return None

    def _init(self, volume: Volume) -> Link:
        checks = InitCheck(
            self._environment, volume, self._command_line, self._version, self._where
        )
        return checks.init

    def _not_checked(self, says: str) -> CheckResult:
        return not_checked(finding(FindingId.ROOT_NOT_CHECKED, Severity.NOTE, says, self._where))
