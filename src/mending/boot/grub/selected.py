"""The check of the entry that starts: the volumes it loads from, and what it hands over to."""

from collections.abc import Callable

from mending.boot.chain import BootEnvironment, CheckResult, Link, failed, finding, not_followed
from mending.boot.grub.entries import FileReference, Loaded, MenuEntry
from mending.boot.linux import LinuxChecks, LinuxStart, Part
from mending.disk.volume import Volume
from mending.model import Finding, FindingId, Phase, Severity, Where

Chained = Callable[[Volume, str], Link]
"""Makes the check behind a boot sector or loader file that an entry hands over to."""


class SelectedEntry:
    """The check of what an entry loads. `start` is the first.

    Args:
        entry: None where the menu file itself loads a kernel.
        menu: path of the menu file, for sentences.
    """

    def __init__(
        self,
        environment: BootEnvironment,
        loaded: Loaded,
        entry: MenuEntry | None,
        menu: str,
        behind: Chained,
    ) -> None:
        self._environment, self._loaded, self._entry = environment, loaded, entry
        self._menu, self._behind = menu, behind

    @not_followed(FindingId.BOOT_MANAGER_NOT_CHECKED, "What the entry loads", phase=Phase.LOADER)
    def start(self) -> CheckResult:
        """Are the volumes there that the entry loads from?"""
        loaded, kernel = self._loaded, self._loaded.kernel
        if kernel is None:
            return self._other()
        volume = self._volume(kernel)
        initrds = [(self._volume(part), part.path) for part in loaded.initrds]
        if volume is None or any(home is None for home, _ in initrds):
            says = (
                f"The entry loads {kernel.path} from {kernel.device or 'no device'}, and this disk"
                " has no such volume."
            )
            return failed(self._no_volume(says, kernel))
        parts = tuple(Part(home, path) for home, path in initrds if home is not None)
        start = LinuxStart(
            Part(volume, kernel.path),
            parts,
            loaded.command_line,
            self._where(kernel),
            "GRUB's entry",
        )
        return LinuxChecks(self._environment, start, tuple(self._failed_searches())).kernel()

    def _volume(self, reference: FileReference) -> Volume | None:
        return self._environment.device(reference.device)

    def _no_volume(self, says: str, asked: FileReference) -> Finding:
        missing = FindingId.KERNEL_VOLUME_MISSING
        return finding(missing, Severity.FATAL, says, self._where(asked))

    def _failed_searches(self) -> list[Finding]:
        """A search that finds nothing is harmless where the root was set before, and the kernel was
        found.
        """
        found = []
        for asked in self._loaded.failed:
            says = (
                f"GRUB's entry searches for {asked.path}, which no volume is; it goes on with what"
                " was set."
            )
            where = self._where(asked)
            found.append(finding(FindingId.GRUB_SEARCH_FAILED, Severity.WARNING, says, where))
        return found

    def _other(self) -> CheckResult:
        chained = self._loaded.chained
        if chained is not None:
            volume = self._volume(chained)
            if volume is None:
                says = (
                    f"The entry hands over to {chained.path} on {chained.device}, and this disk has"
                    " no such volume."
                )
                return failed(self._no_volume(says, chained))
            return self._behind(volume, chained.path)()
        title = f"entry {self._entry.title!r}" if self._entry else "menu"
        says = f"GRUB's {title} loads no kernel."
        where = Where(path=self._menu, line=self._entry.line if self._entry else None)
        return failed(finding(FindingId.GRUB_ENTRY_EMPTY, Severity.FATAL, says, where))

    def _where(self, asked: FileReference) -> Where:
        path = asked.menu.partition(")")[2] or asked.menu or self._menu
        return Where(path=path, line=asked.line)
