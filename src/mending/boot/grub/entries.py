"""What comes of running GRUB's menu file on paper: entries, and what they load."""

from collections.abc import Mapping

import msgspec

from mending.formats.bootloader.grub_menu import CommandTree


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
