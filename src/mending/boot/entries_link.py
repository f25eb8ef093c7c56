"""The links of a boot manager that reads entry files: which entries it shows, and what the first of them loads.

Source: systemd 252, manual page systemd-boot(7): entries whose program is not there are not shown; order by sort key,
version and identifier.
"""

import fnmatch
from collections.abc import Iterator

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux.start import LinuxLinks, LinuxStart, Part
from mending.boot.rungs import Rung, failed, finding
from mending.boot.unified import read_unified, start_of
from mending.boot.versions import falling
from mending.disk import Volume
from mending.formats import boot_entry
from mending.model import Finding, Phase, PhaseState, Severity, Where

MARK = b"LoaderInfo: systemd-boot"
"""What the manager's own file says of itself."""
_PHASE = Phase.BOOT_MANAGER
_ENTRIES, _UNIFIED = "loader/entries", "EFI/Linux"
_EXTENDED_TYPE = "Linux boot"


class _Entry(msgspec.Struct, frozen=True):
    """One entry of either kind, as the manager sorts it. `start` is None where it loads something we do not read."""

    volume: Volume
    id: str
    title: str
    version: str
    sort_key: str
    start: LinuxStart | None
    where: Where
    hidden: str = ""


class EntryLinks:
    """The links of one manager. `menu` is the first. Args: home: the volume that it was loaded from."""

    def __init__(self, grounds: Grounds, home: Volume) -> None:
        self._grounds, self._home = grounds, home

    def menu(self) -> Rung:
        """Is there an entry that is shown?"""
        try:
            found = [one for volume in self._volumes() for one in (*self._described(volume), *self._unified(volume))]
            pattern = boot_entry.default_pattern(self._grounds.read(self._home, "loader/loader.conf"))
        except ElsewhereError as error:
            says = f"The entries of the boot manager were not checked: {error}"
            one = finding("boot-manager-not-checked", _PHASE, Severity.NOTE, says)
            return Rung(phase=_PHASE, state=PhaseState.NOT_CHECKED, says=says, findings=(one,))
        shown = [one for one in found if not one.hidden]
        notes = tuple(_hidden(one, Severity.WARNING) for one in found if one.hidden)
        if not shown:
            return self._none(found, notes)
        entry = _first(shown, pattern)
        says = f"{len(shown)} of {len(found)} boot entries can be shown; {entry.title or entry.id!r} starts by itself."
        if entry.start is None:
            says += " What it loads is not read further."
            return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=entry.where, findings=notes)
        then = LinuxLinks(self._grounds, entry.start).kernel
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=entry.where, findings=notes, then=then)

    def _volumes(self) -> list[Volume]:
        """The volume that the manager is on, and the extended boot volume, if there is one."""
        others = [one for one in self._grounds.volumes if one.type == _EXTENDED_TYPE and one != self._home]
        return [self._home, *others]

    def _described(self, volume: Volume) -> Iterator[_Entry]:
        """Entries with a file that describes them."""
        for path in self._listing(volume, _ENTRIES, ".conf"):
            one = boot_entry.read(self._grounds.read(volume, path), path.rpartition("/")[2])
            where = Where(path=f"/{_ENTRIES}/{one.id}")
            start = None
            if one.kernel:
                initrds = tuple(Part(volume, path) for path in one.initrds)
                manager = f"The boot entry {one.id}"
                start = LinuxStart(Part(volume, one.kernel), initrds, one.words, where, manager, as_program=True)
            hidden = "" if one.program else "names no kernel"
            if one.program and self._grounds.find(volume, one.program) is None:
                hidden = f"asks for {one.program}, which is not on volume {volume.number}"
            yield _Entry(volume, one.id, one.title, one.version, one.sort_key, start, where, hidden)

    def _unified(self, volume: Volume) -> Iterator[_Entry]:
        """Kernels that bring everything with them."""
        for path in self._listing(volume, _UNIFIED, ".efi"):
            one, name, where = read_unified(self._grounds, volume, path), path.rpartition("/")[2], Where(path=path)
            if one is None or not one.sort_key or not one.title:
                hidden = "is no unified kernel" if one is None else "does not say of which system it is"
                yield _Entry(volume, name, "", "", "", None, where, hidden)
                continue
            yield _Entry(volume, name, one.title, one.version, one.sort_key, start_of(volume, one), where)

    def _listing(self, volume: Volume, folder: str, ending: str) -> list[str]:
        found = self._grounds.find(volume, folder)
        inside = self._grounds.files(volume).listing(found.path) if found is not None and found.is_folder else []
        return sorted(one.path for one in inside if one.path.lower().endswith(ending))

    def _none(self, found: list[_Entry], notes: tuple[Finding, ...]) -> Rung:
        if found:
            one = _hidden(found[0], Severity.FATAL, ("boot-entries",))
            says = f"No boot entry can be shown: {one.says[0].lower()}{one.says[1:]}"
            one = msgspec.structs.replace(one, id="kernel-missing", says=says)
        else:
            says = f"The boot manager finds no entry: /{_ENTRIES} on volume {self._home.number} has none."
            where = Where(path=f"/{_ENTRIES}")
            one = finding("boot-entries-missing", _PHASE, Severity.FATAL, says, where, ("boot-entries",))
        return msgspec.structs.replace(failed(one), findings=(one, *notes))


def _hidden(entry: _Entry, severity: Severity, repairs: tuple[str, ...] = ()) -> Finding:
    says = f"The boot entry {entry.id} {entry.hidden}; the manager does not show it."
    return finding("boot-entry-hidden", _PHASE, severity, says, entry.where, repairs)


def _first(shown: list[_Entry], pattern: str) -> _Entry:
    """The one that starts by itself: the default by its pattern, else the first in the manager's order."""
    for one in shown:
        if pattern and fnmatch.fnmatchcase(one.id.lower(), pattern.lower()):
            return one
    return sorted(shown, key=_order)[0]


def _order(entry: _Entry) -> tuple[object, ...]:
    """With a sort key before without; then by it, then the highest version, then the highest identifier."""
    return (not entry.sort_key, entry.sort_key, falling(entry.version), falling(entry.id))
