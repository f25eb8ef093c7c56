"""Files put in their place: on FAT by our own writer, on ext in the blocks they have, in a mounted tree by name."""

from collections.abc import Mapping

from mending.boot import FolderGrounds
from mending.disk import Disk, FatWriter, Volume, contents_of
from mending.model import Change, FileChange, InputError, Patch, RefusedError
from mending.repair.guards import check_awake
from mending.repair.in_place import patch_file, read_file

_FAT = {"fat12", "fat16", "fat32"}


def put_on_disk(disk: Disk, volume: Volume, files: Mapping[str, bytes], says: str) -> list[Change]:
    """Patches that put files on a volume of a disk.

    On ext a file must be there already and be as long: nothing but its bytes is changed.

    Raises:
        RefusedError: no room, another length, another file system, or a guard says no.
    """
    if volume.filesystem in _FAT:
        check_awake(contents_of(disk.source, volume))
        return [*_on_fat(disk, volume, files, says)]
    changes: list[Change] = []
    for path, data in files.items():
        old = read_file(disk, volume, path, len(data) + 1)
        if old is None or len(old) != len(data):
            what = "is not there" if old is None else "has another length"
            raise RefusedError(
                f"{path} {what} on volume {volume.number}, and no new blocks are given out on {volume.filesystem}.",
                "Mount the volume and name its folder as the target.",
            )
        changes += patch_file(disk, volume, path, [(0, data)], says)
    return changes


def _on_fat(disk: Disk, volume: Volume, files: Mapping[str, bytes], says: str) -> list[Patch]:
    try:
        writer = FatWriter(disk.source, volume.offset)
        for path, data in files.items():
            writer.put(path, data)
        return [Patch(offset, before, after, says) for offset, before, after in writer.ranges()]
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error


def put_in_tree(grounds: FolderGrounds, volume: Volume, files: Mapping[str, bytes], says: str) -> list[Change]:
    """Changes that put files below the place where a volume is mounted."""
    changes: list[Change] = []
    for path, data in files.items():
        place = grounds.place(volume, path)
        changes.append(FileChange(place, grounds.tree.holds(place), data, says))
    return changes
