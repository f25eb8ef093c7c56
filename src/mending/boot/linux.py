"""The links of a Linux start: kernel, initial file system, root, its init and its mount table."""

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux_root import RootLinks
from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import FileDamagedError, FileFound, FilesUnavailableError, Volume
from mending.formats import bzimage, initramfs
from mending.model import Finding, Phase, PhaseState, Reading, Severity, Where, Window
from mending.model.limits import INITRAMFS_BYTES, KERNEL_BYTES

_PHASE = Phase.LOADER


class LinuxStart(msgspec.Struct, frozen=True):
    """What a boot manager would load.

    Attributes:
        volume: where the kernel is; a path of `initrds` may be on another.
        words: the kernel's command line.
        where: the line of the menu or entry that says so.
        manager: whose, for sentences.
    """

    volume: Volume
    path: str
    initrds: tuple[tuple[Volume, str], ...]
    words: str
    where: Where
    manager: str


class LinuxLinks:
    """The links of one start. `kernel` is the first."""

    def __init__(self, grounds: Grounds, start: LinuxStart, notes: tuple[Finding, ...] = ()) -> None:
        self._grounds, self._start, self._notes = grounds, start, notes
        self._version = ""

    def kernel(self) -> Rung:
        """Is the kernel there, whole, and for this kind of machine?"""
        start = self._start
        try:
            found = self._grounds.find(start.volume, start.path)
            if found is None or found.is_folder:
                says = (
                    f"{start.manager} asks for the kernel {start.path}, which is not on volume {start.volume.number}."
                )
                return self._failed("kernel-missing", says, start.where)
            reading = self._read_kernel(found)
        except FileDamagedError as error:
            says = f"The kernel {start.path} cannot be read to its end: {error.says}."
            return self._failed("kernel-damaged", says, Where(path=start.path))
        except (ElsewhereError, FilesUnavailableError) as error:
            return self._not_checked(f"The kernel {start.path} was not checked: {error}")
        if reading is None or reading.problems:
            what = (
                "is empty"
                if reading is None
                else f"has {reading.problems[0].found} instead of {reading.problems[0].expected}"
            )
            where = Where(path=found.path, length=found.bytes)
            return self._failed("kernel-damaged", f"The kernel {found.path} {what}.", where)
        self._version = reading.record.version
        says = f"The kernel {found.path} is sound{f', version {self._version}' if self._version else ''}."
        where = Where(path=found.path, length=found.bytes)
        return Rung(
            phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, findings=self._notes, then=self.initial_files
        )

    def _read_kernel(self, found: FileFound) -> Reading[bzimage.KernelFile] | None:
        if not found.bytes:
            return None
        data = self._grounds.files(self._start.volume).read(found, KERNEL_BYTES)
        return bzimage.read(Window(data[: bzimage.HEAD_BYTES]), found.bytes)

    def initial_files(self) -> Rung:
        """Are the initial file systems there, whole up to their trailers, and for this kernel?"""
        if not self._start.initrds:
            says = "No initial file system is asked for."
            return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=self._start.where, then=self.root)
        versions: set[str] = set()
        seen: list[str] = []
        for volume, path in self._start.initrds:
            try:
                found = self._grounds.find(volume, path)
                if found is None or not found.bytes:
                    missing = "is empty" if found is not None else f"is not on volume {volume.number}"
                    code = "initramfs-empty" if found is not None else "initramfs-missing"
                    says = f"{self._start.manager} asks for the initial file system {path}, which {missing}."
                    return self._failed(code, says, self._start.where, self.root)
                data = self._grounds.files(volume).read(found, INITRAMFS_BYTES)
            except FileDamagedError as error:
                says = f"The initial file system {path} cannot be read to its end: {error.says}."
                return self._failed("initramfs-damaged", says, Where(path=path), self.root)
            except (ElsewhereError, FilesUnavailableError) as error:
                return self._not_checked(f"The initial file system {path} was not checked: {error}")
            record, problems = initramfs.read(data)
            if problems:
                says = f"The initial file system {path} {problems[0].found}; expected {problems[0].expected}."
                where = Where(path=found.path, offset=problems[0].offset, length=found.bytes)
                return self._failed("initramfs-damaged", says, where, self.root)
            if record.unchecked:
                return self._not_checked(f"{path}: {record.unchecked}", self.root)
            versions |= record.module_versions
            seen.append(f"{found.path} ({record.kind}, {len(record.names)} files)")
        where = Where(path=self._start.initrds[-1][1])
        says = f"Initial file system whole: {', '.join(seen)}."
        if versions and self._version and self._version not in versions:
            inside = ", ".join(sorted(versions))
            says = f"The initial file system holds modules of {inside}, and the kernel is {self._version}."
            one = finding("initramfs-other-kernel", _PHASE, Severity.WARNING, says, where)
            return Rung(
                phase=_PHASE, state=PhaseState.DOUBTFUL, says=says, where=where, findings=(one,), then=self.root
            )
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, then=self.root)

    def root(self) -> Rung:
        """What the kernel, or what starts from its initial file system, looks for next."""
        return RootLinks(self._grounds, self._start.words, self._start.where, bool(self._start.initrds)).root()

    def _failed(self, code: str, says: str, where: Where, then: Link | None = None) -> Rung:
        one = finding(code, _PHASE, Severity.FATAL, says, where)
        rung = failed(one, then)
        return msgspec.structs.replace(rung, findings=(one, *self._notes))

    def _not_checked(self, says: str, then: Link | None = None) -> Rung:
        one = finding("files-not-checked", _PHASE, Severity.NOTE, says)
        return Rung(phase=_PHASE, state=PhaseState.NOT_CHECKED, says=says, findings=(one, *self._notes), then=then)
