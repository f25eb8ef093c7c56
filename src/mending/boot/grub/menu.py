"""The links of GRUB: where it looks for its files, its modules, its menu, and the entry that starts by itself."""

from collections.abc import Callable

import msgspec

from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.grub.entries import Entry, Loaded, Place
from mending.boot.grub.script import Script
from mending.boot.linux.start import LinuxLinks, LinuxStart, Part
from mending.boot.rungs import Link, Rung, failed, finding
from mending.disk import Volume
from mending.formats.grub_image import GrubImage
from mending.model import Finding, Phase, PhaseState, Severity, Where

Chained = Callable[[Volume, str], Link]
_ENTRIES = ("boot-entries",)
_PHASE = Phase.BOOT_MANAGER
_NORMAL = "normal"
"""The module that reads menus; without it GRUB has a rescue prompt and nothing else."""


class GrubLinks:
    """The links behind a sound image. `files` is the first.

    Args:
        image: what the image carries.
        platform: folder of its modules, `i386-pc` or `x86_64-efi`.
        home: the volume that the image was loaded from; None for a core in the gap.
        chained: the link behind a boot sector or loader file that an entry hands over to.
    """

    def __init__(
        self, grounds: Grounds, image: GrubImage, platform: str, home: Volume | None, chained: Chained
    ) -> None:
        self._chained = chained
        self._grounds, self._image, self._platform, self._home = grounds, image, platform, home
        self._home_name = grounds.device_of(home) if home is not None else ""

    def files(self) -> Rung:
        """Is the folder there in which GRUB looks for its modules and its menu?"""
        script = Script(self._grounds, self._first_variables())
        script.run_text(self._image.config, "built-in configuration")
        prefix = script.variables.get("prefix", "")
        device, _, folder = prefix[1:].partition(")") if prefix.startswith("(") else (self._home_name, "", prefix)
        try:
            volume = self._grounds.device(device)
            if volume is None:
                says = f"GRUB looks for its files on {device}, and this disk has no such volume."
                return failed(finding("grub-prefix-missing", _PHASE, Severity.FATAL, says))
            if volume.filesystem == "blank":
                says = f"GRUB looks for its files on volume {volume.number}, and that is blank."
                where = Where(offset=volume.offset, length=512)
                return failed(finding("grub-prefix-unreadable", _PHASE, Severity.FATAL, says, where))
            if volume.boot.unread:
                says = f"GRUB looks for its files on volume {volume.number}. {volume.boot.unread}"
                where = Where(offset=volume.offset + 1024, length=1024)
                return failed(finding("grub-prefix-unreadable", _PHASE, Severity.FATAL, says, where, ("superblock",)))
            return self._menu_in(volume, device, folder, script)
        except ElsewhereError as error:
            return _not_checked(f"GRUB looks for its files in {prefix or 'no place that can be told'}: {error}.")

    def _first_variables(self) -> dict[str, str]:
        prefix = self._image.prefix
        root = prefix[1:].partition(")")[0] if prefix.startswith("(") else self._home_name
        return {"prefix": prefix, "root": root, "grub_platform": "efi" if "efi" in self._platform else "pc"}

    def _menu_in(self, volume: Volume, device: str, folder: str, script: Script) -> Rung:
        modules = f"{folder}/{self._platform}"
        if _NORMAL not in self._image.modules and self._grounds.find(volume, f"{modules}/{_NORMAL}.mod") is None:
            says = (
                f"GRUB's module {_NORMAL} is not in {modules} on volume {volume.number}; it stops at its rescue prompt."
            )
            where = Where(offset=volume.offset, path=f"{modules}/{_NORMAL}.mod")
            return failed(finding("grub-modules-missing", _PHASE, Severity.FATAL, says, where))
        path = f"{folder}/grub.cfg"
        found = self._grounds.find(volume, path)
        if found is None or not found.bytes:
            what = "is empty" if found is not None else "is missing"
            says = f"GRUB's menu {path} on volume {volume.number} {what}; it stops at its prompt."
            return failed(finding("grub-menu-missing", _PHASE, Severity.FATAL, says, Where(path=path), _ENTRIES))
        script.variables["prefix"] = f"({device}){folder}"
        script.loaded = Loaded()  # searches that the image made for itself have done their work
        menu = script.run_file(volume, device, found.path)
        notes = _menu_notes(menu.damaged_line, found.path)
        entry = script.default()
        loaded = script.open(entry) if entry is not None else script.loaded
        if entry is None and loaded.kernel is None and loaded.chained is None:
            return self._nothing(script, found.path, notes)
        title = f"entry {entry.title!r}" if entry is not None else "its menu file"
        count = f"{len(script.entries)} {'entry' if len(script.entries) == 1 else 'entries'}"
        says = f"GRUB's menu {found.path} has {count}; {title} starts by itself."
        where = Where(path=found.path, line=entry.line if entry is not None else None)
        links = _Selected(self._grounds, loaded, entry, found.path, self._chained)
        return Rung(phase=_PHASE, state=PhaseState.PASSED, says=says, where=where, findings=notes, then=links.start)

    def _nothing(self, script: Script, path: str, notes: tuple[Finding, ...]) -> Rung:
        if script.loaded.unknown:
            return _not_checked(f"GRUB's menu {path} calls for something that cannot be read: {script.loaded.unknown}.")
        says = f"GRUB's menu {path} has no entry and loads nothing; it stops at its prompt."
        rung = failed(finding("grub-menu-empty", _PHASE, Severity.FATAL, says, Where(path=path), _ENTRIES))
        return msgspec.structs.replace(rung, findings=(*rung.findings, *notes))


def _menu_notes(damaged: int | None, path: str) -> tuple[Finding, ...]:
    if damaged is None:
        return ()
    says = f"GRUB's menu {path} is damaged: what begins in line {damaged} does not end."
    return (finding("grub-menu-damaged", _PHASE, Severity.WARNING, says, Where(path=path, line=damaged)),)


class _Selected:
    """The link to what the entry loads."""

    def __init__(self, grounds: Grounds, loaded: Loaded, entry: Entry | None, menu: str, behind: Chained) -> None:
        self._behind = behind
        self._grounds, self._loaded, self._entry, self._menu = grounds, loaded, entry, menu

    def start(self) -> Rung:
        loaded = self._loaded
        kernel = loaded.kernel
        if kernel is None:
            return self._other()
        try:
            volume, initrds = self._volume(kernel), tuple((self._volume(one), one.path) for one in loaded.initrds)
        except ElsewhereError as error:
            return _not_checked(f"The entry loads from {error}.", Phase.LOADER)
        if volume is None or any(one is None for one, _ in initrds):
            says = (
                f"The entry loads {kernel.path} from {kernel.device or 'no device'}, and this disk has no such volume."
            )
            return failed(finding("kernel-volume-missing", Phase.LOADER, Severity.FATAL, says, self._where(kernel)))
        sound = tuple(Part(one, path) for one, path in initrds if one is not None)
        start = LinuxStart(Part(volume, kernel.path), sound, loaded.words, self._where(kernel), "GRUB's entry")
        return LinuxLinks(self._grounds, start, tuple(self._failed_searches())).kernel()

    def _volume(self, place: Place) -> Volume | None:
        return self._grounds.device(place.device)

    def _failed_searches(self) -> list[Finding]:
        """A search that finds nothing is harmless where the root was set before, and the kernel was found."""
        return [
            finding(
                "grub-search-failed", _PHASE, Severity.WARNING,
                f"GRUB's entry searches for {one.path}, which no volume is; it goes on with what was set.",
                self._where(one),
            )
            for one in self._loaded.failed
        ]  # fmt: skip

    def _other(self) -> Rung:
        chained = self._loaded.chained
        if chained is not None:
            try:
                volume = self._volume(chained)
            except ElsewhereError as error:
                return _not_checked(f"The entry hands over to {chained.path}: {error}.", Phase.LOADER)
            if volume is None:
                says = f"The entry hands over to {chained.path} on {chained.device}, and this disk has no such volume."
                return failed(
                    finding("kernel-volume-missing", Phase.LOADER, Severity.FATAL, says, self._where(chained))
                )
            return self._behind(volume, chained.path)()
        title = f"entry {self._entry.title!r}" if self._entry else "menu"
        says = f"GRUB's {title} loads no kernel."
        where = Where(path=self._menu, line=self._entry.line if self._entry else None)
        return failed(finding("grub-entry-empty", _PHASE, Severity.FATAL, says, where))

    def _where(self, place: Place) -> Where:
        return Where(path=place.menu.partition(")")[2] or place.menu or self._menu, line=place.line)


def _not_checked(says: str, phase: Phase = _PHASE) -> Rung:
    one = finding("boot-manager-not-checked", phase, Severity.NOTE, says)
    return Rung(phase=phase, state=PhaseState.NOT_CHECKED, says=says, findings=(one,))
