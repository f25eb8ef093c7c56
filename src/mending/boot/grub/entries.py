"""What comes of running GRUB's menu file on paper: entries, and what they load."""

from collections.abc import Mapping

import msgspec

from mending.formats.grub_menu import Tree


class Place(msgspec.Struct, frozen=True):
    """A file by GRUB's name of the device and its path, and where in which menu file it is asked for."""

    device: str
    path: str
    menu: str
    line: int


class Entry(msgspec.Struct, frozen=True):
    """One entry of the menu, with the variables as they were when it was made."""

    title: str
    id: str
    line: int
    menu: str
    tree: Tree
    variables: Mapping[str, str]
    inside: tuple["Entry", ...] = ()


class Loaded(msgspec.Struct):
    """What was asked to be loaded, and the searches that found nothing."""

    kernel: Place | None = None
    words: str = ""
    initrds: tuple[Place, ...] = ()
    chained: Place | None = None
    failed: tuple[Place, ...] = ()
    unknown: str = ""
