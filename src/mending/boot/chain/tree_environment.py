"""The boot environment of a mounted tree: one volume for the tree, and one for the system partition
that is mounted in it.
"""

from mending.boot.chain.environment import BootEnvironment, FreeSpace, pseudo_volume
from mending.disk.files import FileFound, Files, FilesUnavailableError, open_tree
from mending.disk.system import Contents, systems_on
from mending.disk.volume import Volume
from mending.model import FilesystemKind, InputError, VolumeInfo
from mending.source import MountedTree

_ESP_PLACES = ("boot/efi", "efi", "boot", "")
"""Where the EFI system partition is mounted; or the folder is one itself."""
_ESP_DEVICE = "efi"


class TreeEnvironment(BootEnvironment):
    """See `BootEnvironment`. Identifiers of volumes are not known here, so every name that is asked
    for is taken to be there.

    Raises:
        InputError: nothing in the folder looks like an installed system or a system partition.
    """

    knows_names = False

    def __init__(self, tree: MountedTree) -> None:
        super().__init__()
        self.tree = tree
        top = open_tree(tree)
        self._files[1, ""] = top
        self._volumes = [pseudo_volume(1, FilesystemKind.FOLDER, "/")]
        try:
            esp = next((folder for folder in _ESP_PLACES if _has_efi(top, folder)), None)
            if esp is not None:
                self._volumes.append(pseudo_volume(2, FilesystemKind.FOLDER, f"/{esp}", efi=True))
                self._files[2, ""] = open_tree(tree, esp, caseless=True)
            systems = systems_on(top, 1).systems
        except FilesUnavailableError as error:
            raise InputError(error.says, error.hint) from error
        if esp is None and not any(system.family == "linux" for system in systems):
            raise InputError(
                f"{tree.path} holds neither an installed Linux system nor a system partition.",
                "Name the folder where the root volume is mounted.",
            )
        self._systems = systems

    @property
    def volumes(self) -> tuple[Volume, ...]:
        """See `BootEnvironment.volumes`."""
        return tuple(self._volumes)

    @property
    def esp(self) -> Volume | None:
        """The EFI system partition mounted in the tree."""
        return self._volumes[1] if len(self._volumes) > 1 else None

    def path_in_tree(self, volume: Volume, path: str) -> str:
        """A path on a volume as a path in the tree."""
        return f"{volume.label.rstrip('/')}/{path.lstrip('/')}"

    def device(self, name: str) -> Volume | None:
        """The ESP by the name that `device_of` gives it; every other name means the tree."""
        if name.strip("()") == _ESP_DEVICE:
            return self.esp
        if self._memory_disk is not None and name.strip("()") == self.device_of(self._memory_disk):
            return self._memory_disk
        return self._volumes[0]

    def device_of(self, volume: Volume) -> str:
        """See `BootEnvironment.device_of`."""
        if volume is self._memory_disk:
            return super().device_of(volume)
        return _ESP_DEVICE if volume.efi else "hd0,1"

    def find(self, volume: Volume, path: str) -> FileFound | None:
        """See `BootEnvironment.find`; a boot volume of its own is mounted below the root."""
        found = super().find(volume, path)
        if found is not None or volume is not self._volumes[0]:
            return found
        return super().find(volume, f"boot/{path}")

    def contents(self, volume: Volume) -> Contents:
        """What is known of a volume: its systems."""
        systems = self._systems if volume.number == 1 else ()
        role = "system-partition" if volume.efi else "system" if systems else "data"
        return Contents(volume=volume, info=VolumeInfo(), role=role, systems=systems)

    def named(self, kind: str, value: str) -> list[Volume]:
        """See above: whatever the name, the root is taken to bear it."""
        return [self._volumes[0]] if kind and value else []

    def lost_volume(self, value: str) -> Volume | None:  # noqa: ARG002
        """None: superblocks are not seen here."""
        return None

    def unknown(self) -> list[Volume]:
        """None: what is not mounted cannot be counted."""
        return []

    def free_space(self, volume: Volume) -> FreeSpace | None:
        """See `BootEnvironment.free_space`; None where the folder is no mounted volume."""
        room = self.tree.room() if volume is self._volumes[0] else None
        return FreeSpace(bytes=room[0], inodes=room[1]) if room is not None else None

    def fats_can_be_mended(self, volume: Volume) -> bool:  # noqa: ARG002
        """No: the running system reads the FATs here."""
        return False

    def _open(self, volume: Volume) -> Files:
        return self._files[volume.number, volume.top]


def _has_efi(top: Files, folder: str) -> bool:
    home = top.find(folder)
    if home is None or not home.is_folder:
        return False
    inside = (file for file in top.listing(home.path) if file.is_folder)
    return any(file.path.rpartition("/")[2].upper() == "EFI" for file in inside)
