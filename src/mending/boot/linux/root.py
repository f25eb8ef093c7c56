"""The links behind a loaded kernel: the root volume and its init."""

import re

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux.mounts import VolumeName, option, parse_name
from mending.boot.linux.programs import Unfit, check_program
from mending.boot.linux.system import SystemLinks
from mending.boot.linux.words import unlocked_names, word_findings
from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import PACKAGE_STATUS, FileFound, Volume
from mending.formats import ext
from mending.model import Finding, Phase, PhaseState, Severity, Where, hex_preview

_NUMBER = re.compile(r"(?:[a-z]|p)(\d{1,3})$")
"""The partition's number at the end of a plain device name."""
_INITS = ("sbin/init", "etc/init", "bin/init", "bin/sh")
"""What the kernel tries, in this order (init/main.c)."""


class RootLinks:
    """The links of one command line. `root` is the first.

    Args:
        words: the command line, and `where` it was read.
        initramfs: whether an initial file system is loaded.
        version: of the kernel; empty where it does not tell.
    """

    def __init__(self, grounds: Grounds, words: str, where: Where, initramfs: bool, version: str = "") -> None:
        self._grounds, self._words, self._where, self._initramfs = grounds, words, where, initramfs
        self._version = version

    def root(self) -> Rung:
        """Is there a volume of the name that the command line gives?"""
        rung = self._root()
        return msgspec.structs.replace(
            rung, findings=(*rung.findings, *word_findings(self._grounds, self._words, self._where))
        )

    def _root(self) -> Rung:
        given = option(self._words, "root")
        if not self._grounds.knows_names:
            volume = self._grounds.volumes[0]
            says = f"The root is taken to be this folder; whether {given or 'its name'} names it cannot be told."
            return Rung(phase=Phase.KERNEL, state=PhaseState.PASSED, says=says, then=self._init(volume))
        if given is None:
            says = "The command line names no root; what starts from the initial file system is not read."
            return Rung(phase=Phase.KERNEL, state=PhaseState.NOT_CHECKED, says=says, where=self._where)
        name = parse_name(given)
        if name.kind == "other":
            return self._unsure(f"root={given}: whether that is there cannot be told from the disk.")
        if name.kind == "mapped":
            return self._mapped(given, name)
        if name.kind == "device":
            return self._device(given)
        if name.kind in {"uuid", "label"} and not self._initramfs:
            says = f"root={given} needs an initial file system to be understood, and none is loaded."
            return failed(finding("root-name-unknown", Phase.KERNEL, Severity.FATAL, says, self._where))
        found = self._grounds.named(name.kind, name.value)
        if len(found) > 1:
            return self._unsure(f"root={given} is the name of {len(found)} volumes.", "root-name-twice")
        if not found:
            return self._no_root(given, name)
        return self._check_root(found[0])

    def _device(self, given: str) -> Rung:
        """A plain device name: on a PC with one drive, the partition of that number."""
        says = f"root={given} is a plain device name, which may mean another volume at the next start."
        number = _NUMBER.search(given)
        volume = self._grounds.numbered(int(number.group(1))) if number else None
        if volume is None:
            return self._unsure(f"{says} This disk has no such volume.", "root-name-fragile")
        rung = self._check_root(volume)
        fragile = finding("root-name-fragile", Phase.KERNEL, Severity.WARNING, says, self._where)
        return msgspec.structs.replace(rung, findings=(*rung.findings, fragile))

    def _mapped(self, given: str, name: VolumeName) -> Rung:
        """A logical or an unlocked volume: its name can be checked, what is inside is not read."""
        grounds = self._grounds
        holder = next((one for one in grounds.volumes if name.value in grounds.contents(one).facts.logical), None)
        if holder is not None:
            return self._unsure(f"The root is a logical volume inside volume {holder.number}, which is not read.")
        if name.value in unlocked_names(grounds, self._words):
            return self._unsure("The root is an encrypted volume of this disk, which cannot be read without its key.")
        if grounds.unknown() and not self._all_groups_read():
            return self._unsure(f"root={given} may lie inside a volume that cannot be read.")
        says = f"root={given} is the name of no volume on this disk."
        return failed(finding("root-missing", Phase.KERNEL, Severity.FATAL, says, self._where))

    def _all_groups_read(self) -> bool:
        unknown = self._grounds.unknown()
        return all(one.filesystem == "lvm" and self._grounds.contents(one).facts.group for one in unknown)

    def _no_root(self, given: str, name: VolumeName) -> Rung:
        lost = self._grounds.lost_volume(name.value)
        if lost is not None:
            says = f"The root volume {lost.number} has lost its first superblock, so root={given} is not found."
            where = Where(offset=lost.offset + ext.SUPERBLOCK_OFFSET, length=ext.SIZE)
            return failed(finding("root-superblock-lost", Phase.KERNEL, Severity.FATAL, says, where, ("superblock",)))
        hidden = self._grounds.unknown()
        if hidden:
            numbers = " or ".join(str(one.number) for one in hidden)
            return self._unsure(f"root={given} is no volume that can be read; it may lie in volume {numbers}.")
        says = f"root={given} is the name of no volume on this disk."
        return failed(finding("root-missing", Phase.KERNEL, Severity.FATAL, says, self._where, self._renamable()))

    def _renamable(self) -> tuple[str, ...]:
        """A name in a text can be changed; one inside a loader file, which may be signed, is left alone."""
        return () if (self._where.path or "").lower().endswith(".efi") else ("root-name",)

    def _check_root(self, volume: Volume) -> Rung:
        if option(self._words, "ostree") is not None:
            return self._unsure(
                f"The system is one of several trees kept in volume {volume.number}; it is not followed."
            )
        inside = self._grounds.contents(volume).facts
        if inside.bytes > volume.bytes:
            says = (
                f"The root volume {volume.number} believes to be longer than its entry; the kernel refuses to mount it."
            )
            where = Where(offset=volume.entry_offset, length=16)
            return failed(
                finding("root-larger-than-entry", Phase.KERNEL, Severity.FATAL, says, where), self._init(volume)
            )
        says = f"The root is volume {volume.number} ({volume.filesystem})."
        where = Where(offset=volume.offset)
        return Rung(phase=Phase.KERNEL, state=PhaseState.PASSED, says=says, where=where, then=self._init(volume))

    def _init(self, volume: Volume) -> Link:
        def link() -> Rung:
            wanted = option(self._words, "init")
            names = (wanted,) if wanted else _INITS
            try:
                found = next((one for name in names if (one := self._grounds.find(volume, name)) is not None), None)
                fault = self._judge_init(volume, found, names)
                apart = fault is not None and self._grounds.programs_apart(volume)
            except ElsewhereError as error:
                return self._unsure(f"Whether an init is there was not checked: {error}")
            if fault is not None and apart:
                return self._unsure("Programs lie on a volume of their own, mounted at /usr, which is not followed.")
            if fault is not None:
                return failed(fault)
            says = f"{found.path if found else names[0]} is there and can be run."
            where = Where(path=found.path if found else None)
            program = found.path if found else ""
            then = SystemLinks(self._grounds, volume, program, self._version, self._words).modules
            return Rung(phase=Phase.KERNEL, state=PhaseState.PASSED, says=says, where=where, then=then)

        return link

    def _judge_init(self, volume: Volume, found: FileFound | None, names: tuple[str, ...]) -> Finding | None:
        if found is None or (len(names) > 1 and self._grounds.find(volume, names[-1]) == found):
            tried = ", ".join("/" + name.lstrip("/") for name in names[: max(len(names) - 1, 1)])
            prompt = "; the kernel falls back on a bare prompt" if found is not None else ""
            says = f"No init is on the root volume {volume.number}: {tried}{prompt}."
            where = Where(offset=volume.offset, path="/")
            return finding("init-missing", Phase.KERNEL, Severity.FATAL, says, where, self._restore(volume))
        try:
            check_program(self._grounds, volume, found)
        except Unfit as unfit:
            head = self._grounds.read(volume, found.path, 16)
            where = Where(path=found.path, length=found.bytes, hex=hex_preview(head))
            says = f"{found.path} {unfit.says}."
            return finding(f"init-{unfit.code}", Phase.KERNEL, Severity.FATAL, says, where, self._restore(volume))
        return None

    def _restore(self, volume: Volume) -> tuple[str, ...]:
        """Files can be put back where the system keeps the sums of its packages."""
        return ("file-restore",) if self._grounds.find(volume, PACKAGE_STATUS) is not None else ()

    def _unsure(self, says: str, code: str = "root-not-checked") -> Rung:
        unread = code == "root-not-checked"
        one = finding(code, Phase.KERNEL, Severity.NOTE if unread else Severity.WARNING, says, self._where)
        state = PhaseState.NOT_CHECKED if unread else PhaseState.DOUBTFUL
        return Rung(phase=Phase.KERNEL, state=state, says=says, where=self._where, findings=(one,))
