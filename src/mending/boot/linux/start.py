"""The links of a Linux start: kernel, initial file system, root, its init and its mount table."""

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux.root import RootLinks
from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import FileDamagedError, FilesUnavailableError, Volume
from mending.formats import bzimage, initramfs, pe
from mending.model import Finding, Phase, PhaseState, Severity, Where, Window
from mending.model.limits import INITRAMFS_BYTES, KERNEL_BYTES

_PHASE = Phase.LOADER
_PC = {0x8664, 0x014C}
"""Machine types of loader files that a PC's firmware loads."""


class Part(msgspec.Struct, frozen=True):
    """A file that a boot manager loads, or a section of one (`section` names it) where all is in one file."""

    volume: Volume
    path: str
    section: bytes = b""

    @property
    def shown(self) -> str:
        """Its name, for sentences."""
        return f"{self.path} ({self.section.decode()})" if self.section else self.path


class LinuxStart(msgspec.Struct, frozen=True):
    """What a boot manager would load.

    Attributes:
        words: the kernel's command line.
        where: the line of the menu or entry that says so.
        manager: whose, for sentences.
        as_program: whether the manager lets firmware load the kernel, which then needs a sound PE part.
        damage: why firmware would not even load the file that all is in; empty where it would.
    """

    kernel: Part
    initrds: tuple[Part, ...]
    words: str
    where: Where
    manager: str
    as_program: bool = False
    damage: str = ""


class _Content(msgspec.Struct, frozen=True):
    """What was read of a part, and its whole length in bytes."""

    data: bytes
    bytes: int


class LinuxLinks:
    """The links of one start. `kernel` is the first."""

    def __init__(self, grounds: Grounds, start: LinuxStart, notes: tuple[Finding, ...] = ()) -> None:
        self._grounds, self._start, self._notes = grounds, start, notes
        self._version = ""

    def kernel(self) -> Rung:
        """Is the kernel there, whole, and for this kind of machine?"""
        start, part = self._start, self._start.kernel
        try:
            content = self._fetch(part, KERNEL_BYTES)
        except FileDamagedError as error:
            says = f"The kernel {part.shown} cannot be read to its end: {error.says}."
            return self._failed("kernel-damaged", says, Where(path=part.path), self.initial_files)
        except (ElsewhereError, FilesUnavailableError) as error:
            return self._not_checked(f"The kernel {part.shown} was not checked: {error}")
        if content is None:
            says = f"{start.manager} asks for the kernel {part.path}, which is not on volume {part.volume.number}."
            return self._failed("kernel-missing", says, start.where, self.initial_files)
        where = Where(path=part.path, length=content.bytes)
        if start.damage:
            return self._failed(
                "kernel-damaged", f"The kernel {part.path} is damaged: {start.damage}.", where, self.initial_files
            )
        if not content.bytes:
            return self._failed("kernel-damaged", f"The kernel {part.shown} is empty.", where, self.initial_files)
        reading = bzimage.read(Window(content.data[: bzimage.HEAD_BYTES]), content.bytes)
        if reading.problems:
            says = f"has {reading.problems[0].found} instead of {reading.problems[0].expected}"
            return self._failed("kernel-damaged", f"The kernel {part.shown} {says}.", where, self.initial_files)
        unfit = self._unfit_program(content)
        if unfit:
            return self._failed("kernel-damaged", f"The kernel {part.shown} {unfit}.", where, self.initial_files)
        self._version = reading.record.version
        says = f"The kernel {part.shown} is sound{f', version {self._version}' if self._version else ''}."
        return Rung(
            phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, findings=self._notes, then=self.initial_files
        )

    def _unfit_program(self, content: _Content) -> str:
        """Why firmware would not load the kernel as a program; empty where it would, or is not asked to."""
        if not self._start.as_program:
            return ""
        reading = pe.read(Window(content.data), content.bytes)
        if reading.problems:
            return (
                f"cannot be loaded by firmware: {reading.problems[0].found} instead of {reading.problems[0].expected}"
            )
        machine = reading.record.machine
        return "" if machine in _PC else f"is made for machine type {machine:04x}, which is no PC"

    def _fetch(self, part: Part, limit: int) -> _Content | None:
        """The content of a part, None where it is not there. Raises as `Files.read` does, and ElsewhereError."""
        found = self._grounds.find(part.volume, part.path)
        if found is None or found.is_folder:
            return None
        files = self._grounds.files(part.volume)
        if not part.section:
            return _Content(files.read(found, limit), found.bytes)
        data = files.read(found, INITRAMFS_BYTES)
        inside = pe.section(data, pe.read(Window(data), found.bytes).record, part.section) or b""
        return _Content(inside, len(inside))

    def initial_files(self) -> Rung:
        """Are the initial file systems there, whole up to their trailers, and for this kernel?"""
        if not self._start.initrds:
            says = "No initial file system is asked for."
            return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=self._start.where, then=self.root)
        versions: set[str] = set()
        seen: list[str] = []
        for part in self._start.initrds:
            try:
                content = self._fetch(part, INITRAMFS_BYTES)
            except FileDamagedError as error:
                says = f"The initial file system {part.shown} cannot be read to its end: {error.says}."
                return self._failed("initramfs-damaged", says, Where(path=part.path), self.root)
            except (ElsewhereError, FilesUnavailableError) as error:
                return self._not_checked(f"The initial file system {part.shown} was not checked: {error}")
            if content is None or not content.bytes:
                missing = "is empty" if content is not None else f"is not on volume {part.volume.number}"
                code = "initramfs-empty" if content is not None else "initramfs-missing"
                says = f"{self._start.manager} asks for the initial file system {part.path}, which {missing}."
                return self._failed(code, says, self._start.where, self.root)
            record, problems = initramfs.read(content.data)
            if problems:
                says = f"The initial file system {part.shown} {problems[0].found}; expected {problems[0].expected}."
                where = Where(path=part.path, offset=problems[0].offset, length=content.bytes)
                return self._failed("initramfs-damaged", says, where, self.root)
            if record.unchecked:
                return self._not_checked(f"{part.shown}: {record.unchecked}", self.root)
            versions |= record.module_versions
            seen.append(f"{part.shown} ({record.kind}, {len(record.names)} files)")
        return self._for_this_kernel(versions, seen)

    def _for_this_kernel(self, versions: set[str], seen: list[str]) -> Rung:
        where = Where(path=self._start.initrds[-1].path)
        says = f"Initial file system whole: {', '.join(seen)}."
        if versions and self._version and self._version not in versions:
            inside = ", ".join(sorted(versions))
            says = f"The initial file system holds modules of {inside}, and the kernel is {self._version}."
            one = finding("initramfs-other-kernel", _PHASE, Severity.WARNING, says, where)
            state = PhaseState.DOUBTFUL
            return Rung(phase=_PHASE, state=state, says=says, where=where, findings=(one,), then=self.root)
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, then=self.root)

    def root(self) -> Rung:
        """What the kernel, or what starts from its initial file system, looks for next."""
        start = self._start
        return RootLinks(self._grounds, start.words, start.where, bool(start.initrds), self._version).root()

    def _failed(self, code: str, says: str, where: Where, then: Link | None = None) -> Rung:
        one = finding(code, _PHASE, Severity.FATAL, says, where)
        rung = failed(one, then)
        return msgspec.structs.replace(rung, findings=(one, *self._notes))

    def _not_checked(self, says: str, then: Link | None = None) -> Rung:
        one = finding("files-not-checked", _PHASE, Severity.NOTE, says)
        return Rung(phase=_PHASE, state=PhaseState.NOT_CHECKED, says=says, findings=(one, *self._notes), then=then)
