"""The links behind a loaded kernel: the root volume, its init, the volumes that its mount table wants."""

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.mounts import Mount, VolumeName, mount_table, option, parse_name
from mending.boot.rungs import NOWHERE, Link, Rung, failed, finding
from mending.disk import FileFound, Volume, first_superblock_copy
from mending.formats import ext
from mending.model import Finding, Phase, PhaseState, Severity, Where

_INITS = ("sbin/init", "etc/init", "bin/init", "bin/sh")
"""What the kernel tries, in this order (init/main.c)."""
_ELF, _SCRIPT = b"\x7fELF", b"#!"
_X86 = {0x03, 0x3E}
_EXECUTE = 0o111


class RootLinks:
    """The links of one command line. `root` is the first."""

    def __init__(self, grounds: Grounds, words: str, where: Where, initramfs: bool) -> None:
        self._grounds, self._words, self._where, self._initramfs = grounds, words, where, initramfs

    def root(self) -> Rung:
        """Is there a volume of the name that the command line gives?"""
        given = option(self._words, "root")
        if given is None:
            says = "The command line names no root; what starts from the initial file system is not read."
            return Rung(phase=Phase.KERNEL, state=PhaseState.NOT_CHECKED, says=says, where=self._where)
        name = parse_name(given)
        if name.kind == "other":
            says = f"root={given}: whether that is there cannot be told from the disk."
            return self._unsure(says)
        if name.kind == "device":
            says = f"root={given} is a plain device name, which may mean another volume at the next start."
            return self._unsure(says, "root-name-fragile")
        if name.kind == "uuid" and not self._initramfs:
            says = f"root={given} needs an initial file system to be understood, and none is loaded."
            return failed(finding("root-name-unknown", Phase.KERNEL, Severity.FATAL, says, self._where))
        found = self._grounds.named(name.kind, name.value)
        if len(found) > 1:
            return self._unsure(f"root={given} is the name of {len(found)} volumes.", "root-name-twice")
        if not found:
            return self._no_root(given, name)
        return self._check_root(found[0])

    def _no_root(self, given: str, name: VolumeName) -> Rung:
        lost = next((one for one in self._grounds.disk.volumes if self._had(one, name)), None)
        if lost is not None:
            says = f"The root volume {lost.number} has lost its first superblock, so root={given} is not found."
            where = Where(offset=lost.offset + ext.SUPERBLOCK_OFFSET, length=ext.SIZE)
            return failed(finding("root-superblock-lost", Phase.KERNEL, Severity.FATAL, says, where, ("superblock",)))
        hidden = self._grounds.unknown()
        if hidden:
            numbers = " or ".join(str(one.number) for one in hidden)
            return self._unsure(f"root={given} is no volume that can be read; it may lie in volume {numbers}.")
        says = f"root={given} is the name of no volume on this disk."
        return failed(finding("root-missing", Phase.KERNEL, Severity.FATAL, says, self._where, ("root-name",)))

    def _had(self, volume: Volume, name: VolumeName) -> bool:
        if not volume.boot.unread:
            return False
        copy = first_superblock_copy(self._grounds.disk.source, volume.offset, volume.bytes)
        facts = ext.facts(copy) if copy is not None else None
        return facts is not None and name.value.lower() in {facts.identifier, facts.label.lower()}

    def _check_root(self, volume: Volume) -> Rung:
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
            except ElsewhereError as error:
                return self._unsure(f"Whether an init is there was not checked: {error}")
            if fault is not None:
                return failed(fault)
            says = f"{found.path if found else names[0]} is there and can be run."
            where = Where(path=found.path if found else None)
            return Rung(phase=Phase.KERNEL, state=PhaseState.PASSED, says=says, where=where, then=self._mounts(volume))

        return link

    def _judge_init(self, volume: Volume, found: FileFound | None, names: tuple[str, ...]) -> Finding | None:
        if found is None:
            says = (
                f"No init is on the root volume {volume.number}: {', '.join('/' + name.lstrip('/') for name in names)}."
            )
            return finding("init-missing", Phase.KERNEL, Severity.FATAL, says, Where(offset=volume.offset, path="/"))
        head = self._grounds.read(volume, found.path)[:64]
        where = Where(path=found.path, length=found.bytes)
        if not found.mode & _EXECUTE:
            says = f"{found.path} may not be executed."
            return finding("init-not-executable", Phase.KERNEL, Severity.FATAL, says, where)
        machine = int.from_bytes(head[18:20], "little")
        if not head.startswith((_ELF, _SCRIPT)) or (head.startswith(_ELF) and machine not in _X86):
            says = f"{found.path} is no program for this machine."
            return finding("init-damaged", Phase.KERNEL, Severity.FATAL, says, where)
        return None

    def _mounts(self, volume: Volume) -> Link:
        def link() -> Rung:
            try:
                table = self._grounds.read(volume, "etc/fstab").decode("utf-8", errors="replace")
            except ElsewhereError as error:
                return self._unsure(f"The mount table was not checked: {error}")
            notes: list[Finding] = []
            for row in mount_table(table):
                notes += self._judge_mount(row)
            fatal = next((one for one in notes if one.severity is Severity.FATAL), None)
            if fatal is not None:
                rung = failed(fatal, self._end)
                return Rung(
                    phase=rung.phase, state=rung.state, says=rung.says, where=rung.where, findings=tuple(notes),
                    then=rung.then,
                )  # fmt: skip
            says = "Every volume that the mount table requires is there."
            where = Where(path="/etc/fstab")
            return Rung(
                phase=Phase.SESSION, state=PhaseState.PASSED, says=says, where=where, findings=tuple(notes),
                then=self._end,
            )  # fmt: skip

        return link

    def _judge_mount(self, row: Mount) -> list[Finding]:
        where = Where(path="/etc/fstab", line=row.line)
        if row.name.kind == "device":
            says = f"The mount table names {row.name.value} for {row.point}, which may mean another volume next time."
            return [finding("mount-name-fragile", Phase.SESSION, Severity.WARNING, says, where)]
        if row.name.kind == "other" or self._grounds.named(row.name.kind, row.name.value):
            return []
        hidden = bool(self._grounds.unknown())
        severity = Severity.FATAL if row.required and row.point != "/" and not hidden else Severity.WARNING
        may = "; it may be one that cannot be read" if hidden else ""
        says = f"The mount table wants {row.name.kind} {row.name.value} for {row.point}, which no volume has{may}."
        repairs = ("root-name",) if severity is Severity.FATAL else ()
        return [finding("mount-missing", Phase.SESSION, severity, says, where, repairs)]

    def _end(self) -> Rung:
        says = "What the system does behind its mounts is not read yet."
        return Rung(phase=Phase.SESSION, state=PhaseState.NOT_CHECKED, says=says)

    def _unsure(self, says: str, code: str = "root-not-checked") -> Rung:
        one = finding(
            code,
            Phase.KERNEL,
            Severity.NOTE if code == "root-not-checked" else Severity.WARNING,
            says,
            self._where or NOWHERE,
        )
        return Rung(phase=Phase.KERNEL, state=PhaseState.DOUBTFUL, says=says, where=self._where, findings=(one,))
