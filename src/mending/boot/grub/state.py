"""The state of GRUB while its menu file is run on paper: variables, what was loaded, open menus."""

from collections.abc import Mapping

from mending.boot.chain import BootEnvironment, OutOfReachError
from mending.boot.grub.entries import FileReference, Loaded, MenuEntry
from mending.disk.files import FileFound
from mending.disk.volume import Volume

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
