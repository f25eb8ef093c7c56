"""What a loader file is, told by what it carries, and the link behind it."""

from mending.boot.entries_link import MARK, EntryLinks
from mending.boot.grounds import ElsewhereError, Grounds
from mending.boot.grub_menu_link import GrubLinks
from mending.boot.rungs import Link, Rung
from mending.disk import Volume
from mending.formats import grub_image
from mending.model import Phase, PhaseState, Where

_PLATFORM = "x86_64-efi"


def behind_loader(grounds: Grounds, volume: Volume, path: str) -> Link:
    """The first link of the boot manager that a sound loader file is; of an unknown one, that it is not read."""

    def link() -> Rung:
        try:
            data = grounds.read(volume, path)
        except ElsewhereError as error:
            return _unknown(path, f"{path} was not read: {error}")
        if MARK in data:
            return EntryLinks(grounds, volume).menu()
        image = grub_image.read_image(data)
        if image is not None:
            return GrubLinks(grounds, image, _PLATFORM, volume).files()
        return _unknown(path, "What the loader file does next is not read yet.")

    return link


def _unknown(path: str, says: str) -> Rung:
    return Rung(phase=Phase.BOOT_MANAGER, state=PhaseState.NOT_CHECKED, says=says, where=Where(path=path))
