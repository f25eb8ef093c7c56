"""The links behind init: modules of the kernel, mounts, the goal of the start, room on the root."""

from collections.abc import Iterator

from mending.boot.folder_grounds import FolderGrounds
from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux.mounts import Mount, mount_table, option, unlock_table
from mending.boot.linux.sign_in import SignInLinks
from mending.boot.linux.words import BARE_GOALS, diversion
from mending.boot.rungs import NOWHERE, Link, Rung, finding
from mending.disk import Volume
from mending.formats import ext
from mending.model import Finding, Phase, PhaseState, Severity, Where, plain_size

_PHASE = Phase.SESSION
_MODULES = ("usr/lib/modules", "lib/modules")
_GOAL = "default.target"
_UNIT_FOLDERS = ("etc/systemd/system", "run/systemd/system", "usr/local/lib/systemd/system", "usr/lib/systemd/system",
                 "lib/systemd/system")  # fmt: skip
"""Where units are looked for, first found first taken (systemd.unit(5), "Unit File Load Path")."""
_READ_ONLY_FEATURE = 0x1000
"""Of an ext volume: never mounted for writing (`EXT4_FEATURE_RO_COMPAT_READONLY`)."""


class SystemLinks:
    """The links of one root volume. `modules` is the first.

    Args:
        init: path of the program that is started first.
        version: of the kernel; empty where it does not tell.
        words: the kernel's command line.
    """

    def __init__(self, grounds: Grounds, volume: Volume, init: str, version: str, words: str) -> None:
        self._grounds, self._volume, self._init = grounds, volume, init
        self._version, self._words = version, words

    def modules(self) -> Rung:
        """Has the root the modules of this kernel?"""
        try:
            top = next((one for path in _MODULES if (one := self._grounds.find(self._volume, path))), None)
            there = top is not None and bool(self._version) and self._grounds.find(
                self._volume, f"{top.path}/{self._version}"
            ) is not None  # fmt: skip
        except ElsewhereError as error:
            return self._not_checked(f"The modules folder was not checked: {error}", self.mounts)
        if top is None or not self._version or there:
            says, where = "This kernel is taken to need no modules.", NOWHERE
            if there and top is not None:
                where = Where(path=f"{top.path}/{self._version}")
                says = f"Its modules are in {where.path}."
            return Rung(phase=Phase.KERNEL, state=PhaseState.PASSED, says=says, where=where, then=self.mounts)
        says = f"The root has no modules of the kernel {self._version}; devices and file systems will be missing."
        where = Where(path=top.path)
        missing = finding("modules-missing", Phase.KERNEL, Severity.WARNING, says, where)
        return _rung([missing], "", where, self.mounts, Phase.KERNEL)

    def mounts(self) -> Rung:
        """Are the volumes there that the mount table requires?"""
        try:
            table, locks = (
                self._grounds.read(self._volume, path).decode("utf-8", errors="replace")
                for path in ("etc/fstab", "etc/crypttab")
            )
        except ElsewhereError as error:
            return self._not_checked(f"The mount table was not checked: {error}", self.goal)
        found = [one for row in mount_table(table) for one in self._judge_mount(row)]
        found += self._locked(unlock_table(locks))
        says = "Every volume that the mount table requires is there."
        if not self._grounds.knows_names:
            says = "Whether the volumes of the mount table are there cannot be told from a folder."
        return _rung(found, says, Where(path="/etc/fstab"), self.goal)

    def _judge_mount(self, row: Mount) -> list[Finding]:
        where = Where(path="/etc/fstab", line=row.line)
        if row.name.kind == "device":
            says = f"The mount table names {row.name.value} for {row.point}, which may mean another volume next time."
            return [finding("mount-name-fragile", _PHASE, Severity.WARNING, says, where)]
        if row.point == "/" and "ro" in row.options:
            says = "The mount table wants the root read-only, so nothing can be saved and much will not start."
            return [finding("root-read-only", _PHASE, Severity.WARNING, says, where)]
        named = row.name.kind in {"other", "mapped"} or self._grounds.named(row.name.kind, row.name.value)
        if named or not self._grounds.knows_names:
            return []
        hidden = bool(self._grounds.unknown())
        severity = Severity.FATAL if row.required and row.point != "/" and not hidden else Severity.WARNING
        may = "; it may be one that cannot be read" if hidden else ""
        says = f"The mount table wants {row.name.kind} {row.name.value} for {row.point}, which no volume has{may}."
        repairs = ("root-name",) if severity is Severity.FATAL else ()
        return [finding("mount-missing", _PHASE, severity, says, where, repairs)]

    def _locked(self, rows: Iterator[Mount]) -> list[Finding]:
        """Encrypted volumes that are to be unlocked and are not there: the start waits for each of them."""
        return [
            finding(
                "unlock-missing", _PHASE, Severity.WARNING,
                f"The table of encrypted volumes wants {row.name.value} for {row.point}, which no volume is.",
                Where(path="/etc/crypttab", line=row.line),
            )
            for row in rows
            if self._grounds.knows_names and row.name.kind not in {"device", "mapped", "other"} and row.required
            and not self._grounds.named(row.name.kind, row.name.value)
        ]  # fmt: skip

    def goal(self) -> Rung:
        """Does the goal of the start resolve, and to more than a bare prompt?"""
        diverted = diversion(self._words)
        if diverted:
            says = f"The command line says {diverted}, so the start ends at a bare prompt and not at the sign-in."
            return _rung([finding("start-diverted", _PHASE, Severity.FATAL, says)], "", NOWHERE, self.room)
        if "systemd" not in self._init:
            says = f"What {self._init} starts is not read; only systemd's goals are."
            return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, then=self.room)
        wanted = option(self._words, "systemd.unit") or _GOAL
        try:
            places = [f"{folder}/{wanted}" for folder in _UNIT_FOLDERS]
            found = next((one for path in places if (one := self._grounds.find(self._volume, path))), None)
            apart = found is None and self._grounds.programs_apart(self._volume)
            dangling = [path for path in places if found is None and self._grounds.is_link(self._volume, path)]
        except ElsewhereError as error:
            return self._not_checked(f"The goal of the start was not checked: {error}", self.room)
        if apart:
            return self._not_checked("The goal of the start lies on the volume mounted at /usr.", self.room)
        if found is None:
            where = Where(path=f"/{(dangling or places)[0]}")
            what = "points at nothing" if dangling else "is in none of the folders for it"
            says = f"The goal of the start, {wanted}, {what}; the start ends in emergency mode."
            return _rung([finding("goal-missing", _PHASE, Severity.FATAL, says, where)], "", where, self.room)
        where, name = Where(path=found.path), found.path.rpartition("/")[2]
        if name in BARE_GOALS:
            says = f"The goal of the start is {name}, a bare prompt and not the sign-in."
            return _rung([finding("goal-is-bare", _PHASE, Severity.FATAL, says, where)], "", where, self.room)
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=f"The goal of the start is {found.path}.", where=where,
                    then=self.room)  # fmt: skip

    def room(self) -> Rung:
        """Can the root be written, and is there room on it?"""
        then = SignInLinks(self._grounds, self._volume).accounts
        if isinstance(self._grounds, FolderGrounds):
            return self._room_in_folder(self._grounds.tree.room(), then)
        if self._volume.filesystem != "ext":
            return self._not_checked("Room on the root was not checked.", then, note=False)
        head = self._grounds.disk.source.read(self._volume.offset + ext.SUPERBLOCK_OFFSET, ext.SIZE)
        block, facts = ext.SUPERBLOCK.read(head, 0), self._grounds.contents(self._volume).facts
        free = facts.bytes - (facts.used or 0)
        reserved = block.reserved_blocks_low * block.block_size
        where = Where(offset=head.offset, length=len(head.data))
        found = []
        if free <= reserved or not block.free_inodes:
            what = "no free inode" if not block.free_inodes else f"{plain_size(free)} free, all of it reserved"
            says = f"The root is full: {what}; services and sign-in fail where they want to write."
            found.append(finding("root-full", _PHASE, Severity.WARNING, says, where))
        if block.read_only & _READ_ONLY_FEATURE:
            says = "The root volume is marked so that it is never mounted for writing."
            found.append(finding("root-read-only", _PHASE, Severity.WARNING, says, where))
        return _rung(found, f"{plain_size(max(free - reserved, 0))} are free on the root.", where, then)

    def _room_in_folder(self, room: tuple[int, int] | None, then: Link) -> Rung:
        if room is None:
            return self._not_checked("Room on the root was not checked: the folder is no mounted volume.", then,
                                     note=False)  # fmt: skip
        free, inodes = room
        found = []
        if not free or not inodes:
            says = f"The root is full: {plain_size(free)} and {inodes} inodes are free."
            found.append(finding("root-full", _PHASE, Severity.WARNING, says))
        return _rung(found, f"{plain_size(free)} are free on the root.", NOWHERE, then)

    def _not_checked(self, says: str, then: Link, *, note: bool = True) -> Rung:
        notes = (finding("session-not-checked", _PHASE, Severity.NOTE, says),) if note else ()
        state = PhaseState.DOUBTFUL if note else PhaseState.PASSED
        return Rung(phase=_PHASE, state=state, says=says, findings=notes, then=then)


def _rung(found: list[Finding], says: str, where: Where, then: Link, phase: Phase = _PHASE) -> Rung:
    """Broken by the first fatal finding; passed, with what else was found, where there is none."""
    fatal = next((one for one in found if one.severity is Severity.FATAL), None)
    state = PhaseState.FAILED if fatal else PhaseState.PASSED
    chosen = fatal or (found[0] if found and not says else None)
    said, at = (chosen.says, chosen.where) if chosen else (says, where)
    return Rung(phase=phase, state=state, says=said, where=at, findings=tuple(found), then=then)
