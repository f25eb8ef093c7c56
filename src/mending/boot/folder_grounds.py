"""A mounted tree in the place of a disk: one volume for the tree, and one for the system partition mounted in it."""

from mending.boot.grounds import Grounds
from mending.disk import BootSector, Contents, FileFound, Files, FilesUnavailableError, Volume, open_tree, systems_on
from mending.model import ByteOffset, Facts, InputError, Lba, SectorCount
from mending.source import Tree

_EFI_PLACES = ("boot/efi", "efi", "boot", "")
"""Where the EFI system partition is mounted; or the folder is one itself."""
_ESP_DEVICE = "efi"


class FolderGrounds(Grounds):
    """See `Grounds`. Identifiers of volumes are not known here, so every name that is asked for is taken to be there.

    Raises:
        InputError: nothing in the folder looks like an installed system or a system partition.
    """

    knows_names = False

    def __init__(self, tree: Tree) -> None:
        self._files, self._contents = {}, {}
        self.tree = tree
        top = open_tree(tree)
        self._opened = {1: top}
        self._volumes = [_volume(1, "/")]
        try:
            place = next((one for one in _EFI_PLACES if _has_efi(top, one)), None)
            if place is not None:
                self._volumes.append(_volume(2, f"/{place}", efi=True))
                self._opened[2] = open_tree(tree, place, caseless=True)
            systems, _ = systems_on(top, 1)
        except FilesUnavailableError as error:
            raise InputError(error.says, error.hint) from error
        if place is None and not any(one.family == "linux" for one in systems):
            raise InputError(
                f"{tree.path} holds neither an installed Linux system nor a system partition.",
                "Name the folder where the root volume is mounted.",
            )
        self._systems = systems

    @property
    def volumes(self) -> tuple[Volume, ...]:
        """See `Grounds.volumes`."""
        return tuple(self._volumes)

    @property
    def efi(self) -> Volume | None:
        """The system partition mounted in the tree."""
        return self._volumes[1] if len(self._volumes) > 1 else None

    def place(self, volume: Volume, path: str) -> str:
        """A path on a volume as a path in the tree."""
        return f"{volume.label.rstrip('/')}/{path.lstrip('/')}"

    def device(self, name: str) -> Volume | None:
        """The system partition by the name that `device_of` gives it; every other name means the tree."""
        return self.efi if name.strip("()") == _ESP_DEVICE else self._volumes[0]

    def device_of(self, volume: Volume) -> str:
        """See `Grounds.device_of`."""
        return _ESP_DEVICE if volume.efi else "hd0,1"

    def find(self, volume: Volume, path: str) -> FileFound | None:
        """See `Grounds.find`; a boot volume of its own is mounted below the root."""
        found = super().find(volume, path)
        return found if found is not None or volume.efi else super().find(volume, f"boot/{path}")

    def read(self, volume: Volume, path: str, limit: int = 1 << 23) -> bytes:
        """See `Grounds.read`."""
        found = self.find(volume, path)
        return super().read(volume, found.path, limit) if found is not None else b""

    def files(self, volume: Volume) -> Files:
        """See `Grounds.files`."""
        return self._opened[volume.number]

    def contents(self, volume: Volume) -> Contents:
        """What is known of a volume: its systems."""
        systems = self._systems if volume.number == 1 else ()
        role = "system-partition" if volume.efi else "system" if systems else "data"
        return Contents(volume=volume, facts=Facts(), role=role, systems=systems)

    def named(self, kind: str, value: str) -> list[Volume]:
        """See above: whatever the name, the root is taken to bear it."""
        return [self._volumes[0]] if kind and value else []

    def unknown(self) -> list[Volume]:
        """None: what is not mounted cannot be counted."""
        return []


def _has_efi(top: Files, place: str) -> bool:
    home = top.find(place)
    if home is None or not home.is_folder:
        return False
    inside = (one for one in top.listing(home.path) if one.is_folder)
    return any(one.path.rpartition("/")[2].upper() == "EFI" for one in inside)


def _volume(number: int, place: str, *, efi: bool = False) -> Volume:
    return Volume(
        number=number, start=Lba(0), sectors=SectorCount(0), offset=ByteOffset(0), bytes=0, type="folder",
        entry_offset=ByteOffset(0), active=False, extended=False, filesystem="folder", label=place,
        boot=BootSector(ByteOffset(0), b"", True), efi=efi,
    )  # fmt: skip
