"""What comes of running GRUB's menu file on paper: entries, and what they load."""

from collections.abc import Callable, Mapping

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    OutOfReachError,
    failed,
    falling,
    finding,
    not_followed,
)
from mending.boot.linux import LinuxChecks, LinuxStart, Part
from mending.disk.files import FileFound
from mending.disk.volume import Volume
from mending.formats import boot_menus, grub
from mending.formats.boot_menus import BootEntry
from mending.formats.grub import CommandTree
from mending.model import Finding, FindingId, Phase, Severity, Where


class FileReference(msgspec.Struct, frozen=True):
    """A file by GRUB's name of the device and its path, and where in which menu file it is asked
    for.
    """

    device: str
    path: str
    menu: str
    line: int


class MenuEntry(msgspec.Struct, frozen=True):
    """One entry of the menu, with the variables as they were when it was made."""

    title: str
    id: str
    line: int
    menu: str
    tree: CommandTree
    variables: Mapping[str, str]
    inside: tuple["MenuEntry", ...] = ()


class Loaded(msgspec.Struct):
    """What was asked to be loaded, and the searches that found nothing.

    Attributes:
        missing: menu files that were asked for and are not there.
        lacking: path of the first module that is nowhere, so that its command fails; empty where
            all are there.
        unknown: why something could not be read; empty where all could.
    """

    kernel: FileReference | None = None
    command_line: str = ""
    initrds: tuple[FileReference, ...] = ()
    chained: FileReference | None = None
    failed: tuple[FileReference, ...] = ()
    missing: tuple[FileReference, ...] = ()
    lacking: str = ""
    unknown: str = ""

    @property
    def starts_something(self) -> bool:
        """Whether a kernel, or another loader, was named."""
        return self.kernel is not None or self.chained is not None


# Entries in files of their own that GRUB shows: what `blscfg` reads, as several families of
# systems keep them.


FOLDERS = ("/loader/entries", "/boot/loader/entries")
"""Where they are looked for on GRUB's root."""


def entries_in(environment: BootEnvironment, volume: Volume, folder: str) -> list[BootEntry]:
    """The entries of one folder, newest first; none where it is not there. Raises
    OutOfReachError.
    """
    texts = [
        file.path for file in environment.listing(volume, folder) if file.path.endswith(".conf")
    ]
    found = [
        boot_menus.read_entry(environment.read(volume, text), text.rpartition("/")[2])
        for text in texts
    ]
    return sorted(found, key=lambda entry: falling(entry.id))


def commands_of(entry: BootEntry) -> CommandTree:
    """What GRUB runs for an entry; variables in its options are its own."""
    rows = [
        f"linux {entry.kernel} {entry.command_line}",
        *(f"initrd {initrd}" for initrd in entry.initrds),
    ]
    return grub.read_menu("\n".join(rows).encode()).tree


# The check of the entry that starts: the volumes it loads from, and what it hands over to.


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


# The state of GRUB while its menu file is run on paper: variables, what was loaded, open menus.


_FEATURES = (
    "feature_menuentry_id",
    "feature_platform_search_hint",
    "feature_default_font_path",
    "feature_all_video_module",
    "feature_menuentry_options",
    "feature_timeout_style",
    "feature_ntldr",
    "feature_chainloader_bpb",
)


class MenuState:
    """What commands change.

    Attributes:
        entries: made so far, in the order of the menu.
        loaded: what was asked for outside of entries.
        menus: names of the menu files that are being run, the innermost last.
    """

    def __init__(self, environment: BootEnvironment, variables: Mapping[str, str]) -> None:
        self.environment = environment
        self.variables = {**dict.fromkeys(_FEATURES, "y"), **variables}
        self.entries: list[MenuEntry] = []
        self.loaded = Loaded()
        self.menus: list[str] = []

    @property
    def menu(self) -> str:
        """The menu file that is being run."""
        return self.menus[-1] if self.menus else ""

    def value(self, name: str) -> str:
        """The value of a variable; empty where it is not set."""
        return self.variables.get(name, "")

    def reference(self, word: str, line: int) -> FileReference:
        """A file by a word of a command: `(device)/path`, or a path on the device in `root`."""
        device, path = self.value("root"), word
        if word.startswith("("):
            device, _, path = word[1:].partition(")")
        return FileReference(device, path, self.menu, line)

    def file(self, word: str) -> tuple[Volume, FileFound] | None:
        """The file or folder that a word means; None where it is not there or cannot be told."""
        reference = self.reference(word, 0)
        try:
            volume = self.environment.device(reference.device)
            found = self.environment.find(volume, reference.path) if volume is not None else None
        except OutOfReachError as error:
            self.loaded.unknown = self.loaded.unknown or str(error)
            return None
        return (volume, found) if volume is not None and found is not None else None

    def holding(self, path: str) -> list[Volume]:
        """The volumes that hold a file, in the order in which GRUB looks."""
        found = []
        for volume in self.environment.searched:
            try:
                if self.environment.find(volume, path) is not None:
                    found.append(volume)
            except OutOfReachError:
                continue  # what cannot be read here may not be found there either
        return found
