"""The links of a boot manager that reads entry files: which entries it shows, and what the first of them loads.

Source: systemd 252, manual page systemd-boot(7): entries whose program is not there are not shown; order by sort key,
version and identifier.
"""

import fnmatch
import re
from collections.abc import Iterator

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.linux import LinuxLinks, LinuxStart
from mending.boot.rungs import Rung, failed, finding
from mending.disk import Volume
from mending.formats import boot_entry
from mending.formats.boot_entry import BootEntry
from mending.model import Finding, Phase, PhaseState, Severity, Where

MARK = b"LoaderInfo: systemd-boot"
"""What the manager's own file says of itself."""
_PHASE = Phase.BOOT_MANAGER
_ENTRIES, _UNIFIED = "loader/entries", "EFI/Linux"
_EXTENDED_TYPE = "Linux boot"
_PARTS = re.compile(r"(\d+)")


class EntryLinks:
    """The links of one manager. `menu` is the first. Args: home: the volume that it was loaded from."""

    def __init__(self, grounds: Grounds, home: Volume) -> None:
        self._grounds, self._home = grounds, home

    def menu(self) -> Rung:
        """Is there an entry that is shown?"""
        try:
            found = [pair for volume in self._volumes() for pair in self._entries(volume)]
            unified = [(volume, path) for volume in self._volumes() for path in self._listing(volume, _UNIFIED, ".efi")]
            shown = [(volume, one) for volume, one in found if self._is_there(volume, one.program)]
            pattern = boot_entry.default_pattern(self._grounds.read(self._home, "loader/loader.conf"))
        except ElsewhereError as error:
            says = f"The entries of the boot manager were not checked: {error}"
            one = finding("boot-manager-not-checked", _PHASE, Severity.NOTE, says)
            return Rung(phase=_PHASE, state=PhaseState.NOT_CHECKED, says=says, findings=(one,))
        notes = tuple(self._hidden(volume, one) for volume, one in found if (volume, one) not in shown)
        if unified and not shown:
            return self._unified(unified[0][1], notes)
        if not shown:
            return self._none(found, notes)
        volume, entry = _first(shown, pattern)
        where = Where(path=f"/{_ENTRIES}/{entry.id}")
        title = entry.title or entry.id
        says = f"{len(shown)} of {len(found)} boot entries can be shown; {title!r} starts by itself."
        if not entry.kernel:
            says += f" It loads {entry.loader}, which is not read further."
            return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, findings=notes)
        initrds = tuple((volume, path) for path in entry.initrds)
        start = LinuxStart(volume, entry.kernel, initrds, entry.words, where, f"The boot entry {entry.id}")
        then = LinuxLinks(self._grounds, start).kernel
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, findings=notes, then=then)

    def _volumes(self) -> list[Volume]:
        """The volume that the manager is on, and the extended boot volume, if there is one."""
        others = [one for one in self._grounds.disk.volumes if one.type == _EXTENDED_TYPE and one != self._home]
        return [self._home, *others]

    def _entries(self, volume: Volume) -> Iterator[tuple[Volume, BootEntry]]:
        for path in self._listing(volume, _ENTRIES, ".conf"):
            yield volume, boot_entry.read(self._grounds.read(volume, path), path.rpartition("/")[2])

    def _listing(self, volume: Volume, folder: str, ending: str) -> list[str]:
        found = self._grounds.find(volume, folder)
        inside = self._grounds.files(volume).listing(found.path) if found is not None and found.is_folder else []
        return sorted(one.path for one in inside if one.path.lower().endswith(ending))

    def _is_there(self, volume: Volume, path: str) -> bool:
        return bool(path) and self._grounds.find(volume, path) is not None

    def _hidden(self, volume: Volume, entry: BootEntry) -> Finding:
        where = Where(path=f"/{_ENTRIES}/{entry.id}")
        what = (
            f"asks for {entry.program}, which is not on volume {volume.number}" if entry.program else "names no kernel"
        )
        says = f"The boot entry {entry.id} {what}; the manager does not show it."
        return finding("boot-entry-hidden", _PHASE, Severity.WARNING, says, where)

    def _none(self, found: list[tuple[Volume, BootEntry]], notes: tuple[Finding, ...]) -> Rung:
        if found:
            first = found[0][1]
            says = f"No boot entry can be shown: {first.id} asks for {first.program or 'nothing'}, which is not there."
            where = Where(path=f"/{_ENTRIES}/{first.id}")
            one = finding("kernel-missing", _PHASE, Severity.FATAL, says, where)
        else:
            says = f"The boot manager finds no entry: /{_ENTRIES} on volume {self._home.number} has none."
            one = finding("boot-entries-missing", _PHASE, Severity.FATAL, says, Where(path=f"/{_ENTRIES}"))
        rung = failed(one)
        return Rung(phase=rung.phase, state=rung.state, says=says, where=rung.where, findings=(one, *notes))

    def _unified(self, path: str, notes: tuple[Finding, ...]) -> Rung:
        says = f"{path} starts by itself; what is inside a unified kernel is not read yet."
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=Where(path=path), findings=notes)


def _first(shown: list[tuple[Volume, BootEntry]], pattern: str) -> tuple[Volume, BootEntry]:
    """The one that starts by itself: the default by its pattern, else the first in the manager's order."""
    for volume, one in shown:
        if pattern and fnmatch.fnmatchcase(one.id, pattern):
            return volume, one
    return sorted(shown, key=lambda pair: _order(pair[1]))[0]


def _order(entry: BootEntry) -> tuple[object, ...]:
    """With a sort key before without; then by it, then the highest version, then the highest identifier."""
    return (not entry.sort_key, entry.sort_key, _falling(entry.version), _falling(entry.id))


def _falling(text: str) -> tuple[tuple[int, object], ...]:
    """A key that puts higher versions first: numbers by value, letters from the end of the alphabet."""
    parts = (part for part in _PARTS.split(text) if part)
    return tuple((0, -int(part)) if part.isdigit() else (1, tuple(-ord(one) for one in part)) for part in parts)
