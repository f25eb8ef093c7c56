"""The checks of a Linux start: kernel, initramfs, root, its init and its fstab.

A boot manager ends in the same three things, however it is set up: a kernel, images for its first
root, a command line (`LinuxStart`). From there all managers share these checks, in the order in
which the PC comes by them. A file counts as there only if its head, its length and, where it has
one, its trailer fit; whether an initramfs is for this kernel is told by the modules inside it,
since its name proves nothing.
"""

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    OutOfReachError,
    failed,
    finding,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.linux.kernels import (
    FirstRoot,
    InitramfsNeeds,
    KernelWithInitramfs,
    find_sound_kernels,
)
from mending.boot.linux.mounts import option
from mending.boot.linux.root import RootChecks
from mending.disk.files import FileDamagedError
from mending.disk.volume import Volume
from mending.formats import bzimage, initramfs, pe
from mending.formats.initramfs import Initramfs
from mending.model import Finding, FindingId, Phase, RepairId, Severity, Where, Window, clean_text
from mending.model.limits import LOADED_BYTES

_PC = {0x8664, 0x014C}
"""Machine types of loader files that a PC's firmware loads."""


class Part(msgspec.Struct, frozen=True):
    """A file that a boot manager loads, or a section of one (`section` names it) where all is in
    one file.
    """

    volume: Volume
    path: str
    section: bytes = b""

    @property
    def shown(self) -> str:
        """Its name, for sentences."""
        return f"{self.path} ({self.section.decode()})" if self.section else self.path


def kernels_beside(environment: BootEnvironment, kernel: Part) -> list[KernelWithInitramfs]:
    """The whole kernels in the folder in which one was looked for, the newest first."""
    folder = kernel.path.strip("/").rpartition("/")[0]
    return [
        each
        for each in find_sound_kernels(environment, kernel.volume)
        if each.path.strip("/").rpartition("/")[0] == folder
    ]


class LinuxStart(msgspec.Struct, frozen=True):
    """What a boot manager would load.

    Attributes:
        command_line: the kernel's command line.
        where: the line of the menu or entry that says so.
        manager: whose, for sentences.
        as_program: whether the manager lets firmware load the kernel, which then needs a sound PE
            part.
        damage: why firmware would not even load the file that all is in; empty where it would.
    """

    kernel: Part
    initrds: tuple[Part, ...]
    command_line: str
    where: Where
    manager: str
    as_program: bool = False
    damage: str = ""


class _Content(msgspec.Struct, frozen=True):
    """What was read of a part, and its whole length in bytes."""

    data: bytes
    bytes: int


class LinuxChecks:
    """The checks of one start. `kernel` is the first."""

    def __init__(
        self,
        environment: BootEnvironment,
        start: LinuxStart,
        notes: tuple[Finding, ...] = (),
    ) -> None:
        self._environment, self._start, self._notes = environment, start, notes
        self._version = ""
        self._inside: FirstRoot | None = None

    @not_followed(FindingId.FILES_NOT_CHECKED, "The kernel")
    def kernel(self) -> CheckResult:
        """Is the kernel there, whole, and for this kind of machine?"""
        start, part = self._start, self._start.kernel
        try:
            content = self._fetch(part)
        except FileDamagedError as error:
            return self._bad_kernel(f"cannot be read to its end: {error.says}", 0)
        if content is None:
            says = (
                f"{start.manager} asks for the kernel {part.path}, which is not on volume"
                f" {part.volume.number}."
            )
            missing = finding(FindingId.KERNEL_MISSING, Severity.FATAL, says, start.where)
            return failed(self._named(missing), self.initramfs).with_findings(*self._notes)
        if start.damage:
            return self._bad_kernel(f"is damaged: {start.damage}", content.bytes)
        if not content.bytes:
            return self._bad_kernel("is empty", 0)
        reading = bzimage.read(Window(content.data[: bzimage.HEAD_BYTES]), content.bytes)
        if reading.problems:
            fault = reading.problems[0]
            return self._bad_kernel(f"has {fault.found} instead of {fault.expected}", content.bytes)
        unfit = self._unfit_program(content)
        if unfit:
            return self._bad_kernel(unfit, content.bytes)
        self._version = reading.record.version
        version = f", version {self._version}" if self._version else ""
        says = f"The kernel {part.shown} is sound{version}."
        where = Where(path=part.path, length=content.bytes)
        return passed(Phase.LOADER, says, where, self.initramfs, self._notes)

    def _bad_kernel(self, what: str, length: int) -> CheckResult:
        part = self._start.kernel
        says = f"The kernel {part.shown} {what}."
        where = Where(path=part.path, length=length)
        damaged = finding(FindingId.KERNEL_DAMAGED, Severity.FATAL, says, where)
        return failed(self._named(damaged), self.initramfs).with_findings(*self._notes)

    def _named(self, fault: Finding) -> Finding:
        """The finding with the line that asks for the file; where a whole kernel lies beside it
        with its initramfs, with the repair that names them instead.
        """
        start = self._start
        if start.kernel.section or start.where.path is None:
            return fault
        repairs = tuple(fault.repairs)
        if any(kernel.initrd for kernel in kernels_beside(self._environment, start.kernel)):
            repairs = (*repairs, RepairId.ENTRY_KERNEL)
        return msgspec.structs.replace(fault, repairs=repairs, asked_by=start.where)

    def _unfit_program(self, content: _Content) -> str:
        """Why firmware would not load the kernel as a program; empty where it would, or is not
        asked to.
        """
        if not self._start.as_program:
            return ""
        reading = pe.read(Window(content.data), content.bytes)
        if reading.problems:
            fault = reading.problems[0]
            return f"cannot be loaded by firmware: {fault.found} instead of {fault.expected}"
        machine = reading.record.machine
        return "" if machine in _PC else f"is made for machine type {machine:04x}, which is no PC"

    def _fetch(self, part: Part) -> _Content | None:
        """The content of a part, None where it is not there.

        Raises:
            OutOfReachError: also where it is longer than is read.
            FileDamagedError
        """
        found = self._environment.find(part.volume, part.path)
        if found is None or found.is_folder:
            return None
        if found.bytes > LOADED_BYTES:
            says = f"{part.path} has {found.bytes} bytes; at most {LOADED_BYTES} are read."
            raise OutOfReachError(says)
        data = self._environment.files(part.volume).read(found, LOADED_BYTES)
        if not part.section:
            return _Content(data, found.bytes)
        image = pe.read(Window(data), found.bytes).record
        inside = pe.section(data, image, part.section) or b""
        return _Content(inside, len(inside))

    @not_followed(FindingId.FILES_NOT_CHECKED, "The initramfs")
    def initramfs(self) -> CheckResult:
        """Are the initramfs images there, whole up to their trailers, and for this kernel?"""
        start = self._start
        if not start.initrds:
            says = "No initramfs is asked for."
            return passed(Phase.LOADER, says, start.where, self.root)
        images: list[Initramfs] = []
        seen: list[str] = []
        for part in start.initrds:
            try:
                content = self._fetch(part)
            except FileDamagedError as error:
                says = f"The initramfs {part.shown} cannot be read to its end: {error.says}."
                return self._bad_initramfs(FindingId.INITRAMFS_DAMAGED, says, Where(path=part.path))
            if content is None or not content.bytes:
                return self._no_initramfs(part, empty=content is not None)
            record, problems = initramfs.read(content.data)
            if problems:
                fault = problems[0]
                says = f"The initramfs {part.shown} {fault.found}; expected {fault.expected}."
                where = Where(path=part.path, offset=fault.offset, length=content.bytes)
                return self._bad_initramfs(FindingId.INITRAMFS_DAMAGED, says, where)
            if record.unchecked:
                says = f"{part.shown}: {record.unchecked}"
                note = finding(FindingId.FILES_NOT_CHECKED, Severity.NOTE, says)
                return not_checked(note, self.root).with_findings(*self._notes)
            images.append(record)
            seen.append(f"{part.shown} ({record.kind}, {len(record.names)} files)")
        self._inside = FirstRoot.of(images)
        return self._for_this_kernel(images, seen)

    def _no_initramfs(self, part: Part, *, empty: bool) -> CheckResult:
        what = "is empty" if empty else f"is not on volume {part.volume.number}"
        kind = FindingId.INITRAMFS_EMPTY if empty else FindingId.INITRAMFS_MISSING
        says = f"{self._start.manager} asks for the initramfs {part.path}, which {what}."
        return self._bad_initramfs(kind, says, self._start.where)

    def _bad_initramfs(self, kind: FindingId, says: str, where: Where) -> CheckResult:
        fault = self._named(finding(kind, Severity.FATAL, says, where))
        return failed(fault, self.root).with_findings(*self._notes)

    def _for_this_kernel(self, images: list[Initramfs], seen: list[str]) -> CheckResult:
        """An initramfs that holds modules of another kernel only brings no driver for the root:
        the start stops there (tried: `docs/firmware.md`).
        """
        where = Where(path=self._start.initrds[-1].path)
        versions = {version for image in images for version in image.module_versions}
        if versions and self._version and self._version not in versions:
            inside = ", ".join(sorted(versions))
            says = (
                f"The initramfs holds modules of {inside}, and the kernel is {self._version}: it"
                " cannot load the drivers that the root needs."
            )
            return self._bad_initramfs(FindingId.INITRAMFS_OTHER_KERNEL, says, where)
        says = f"Initramfs whole: {', '.join(seen)}."
        return passed(Phase.LOADER, says, where, self.root)

    def root(self) -> CheckResult:
        """What the kernel, or what starts from its initramfs, looks for next."""
        start = self._start
        checks = RootChecks(
            self._environment,
            start.command_line,
            start.where,
            bool(start.initrds),
            self._version,
            self._judge_inside,
        )
        return checks.root()

    def _judge_inside(self, root: Volume) -> Finding | None:
        """Whether the images hold what this root needs; None where they do, or nothing tells."""
        start = self._start
        if self._inside is None:
            return None
        given = option(start.command_line, "root") or ""
        needs = InitramfsNeeds(self._environment, self._inside, root, self._version, given)
        missing = needs.missing()
        if not missing:
            return None
        part = start.initrds[-1]
        says = f"The initramfs {part.shown} {'; it '.join(missing)}: the root cannot be mounted."
        lacks = FindingId.INITRAMFS_LACKS_PART
        return self._named(finding(lacks, Severity.FATAL, says, Where(path=part.path)))


# Unified kernels: one loader file with kernel, initramfs and command line in sections of their
# own.
#
# Source: the UAPI Group's specifications "Unified Kernel Image", section "UKI Components", and
# "Boot Loader Specification", section "Type #2"; what a manager needs to show one: systemd 252,
# `src/boot/efi/boot.c` as described in the manual page systemd-boot(7).


_KERNEL, _INITRD, _WORDS, _RELEASE = b".linux", b".initrd", b".cmdline", b".osrel"


class Unified(msgspec.Struct, frozen=True):
    """What a unified kernel says of itself.

    Attributes:
        keys: rows of its release file; empty where it has none, and then no manager shows it.
        problem: what is wrong with the file as a loader; empty where nothing is.
    """

    path: str
    command_line: str
    keys: dict[str, str]
    has_initrd: bool
    problem: str = ""

    @property
    def title(self) -> str:
        """What a manager calls it."""
        return next(
            (
                self.keys[key]
                for key in ("PRETTY_NAME", "IMAGE_ID", "NAME", "ID")
                if self.keys.get(key)
            ),
            "",
        )

    @property
    def version(self) -> str:
        """By what a manager sorts within one system."""
        names = ("IMAGE_VERSION", "VERSION", "VERSION_ID", "BUILD_ID")
        return next((self.keys[key] for key in names if self.keys.get(key)), "")

    @property
    def sort_key(self) -> str:
        """By what a manager sorts systems."""
        return self.keys.get("IMAGE_ID") or self.keys.get("ID", "")


def read_unified(environment: BootEnvironment, volume: Volume, path: str) -> Unified | None:
    """A loader file that is a unified kernel; None where it is something else. Raises
    OutOfReachError.
    """
    data = environment.read(volume, path, LOADED_BYTES)
    reading = pe.read(Window(data))
    if pe.section(data, reading.record, _KERNEL) is None:
        return None
    command_line, release = (
        _text(pe.section(data, reading.record, name)) for name in (_WORDS, _RELEASE)
    )
    rows = (row.partition("=") for row in release.splitlines())
    keys = {key.strip(): clean_text(value.strip("\"' "), 120) for key, _, value in rows if value}
    initrd = pe.section(data, reading.record, _INITRD) is not None
    problem = (
        ""
        if not reading.problems
        else f"{reading.problems[0].found} instead of {reading.problems[0].expected}"
    )
    return Unified(path, " ".join(command_line.split()), keys, initrd, problem)


def start_of(volume: Volume, found: Unified) -> LinuxStart:
    """What its own stub loads."""
    initrds = (Part(volume, found.path, _INITRD),) if found.has_initrd else ()
    kernel, manager = Part(volume, found.path, _KERNEL), f"The stub of {found.path}"
    return LinuxStart(
        kernel, initrds, found.command_line, Where(path=found.path), manager, damage=found.problem
    )


def _text(data: bytes | None) -> str:
    return (data or b"").split(b"\0")[0].decode("utf-8", errors="replace")
