"""Changes inside a file, within the blocks that it already has. Nothing but its bytes changes: not
length, not date.
"""

from mending.disk.files import FilesUnavailableError, open_files
from mending.disk.layout import Disk
from mending.disk.system import read_contents
from mending.disk.volume import Volume
from mending.model import Patch, RefusedError, VolumeState
from mending.model.limits import FILE_BYTES
from mending.repair.base import check_awake


def patch_file(
    disk: Disk, volume: Volume, path: str, changes: list[tuple[int, bytes]], says: str
) -> list[Patch]:
    """Patches for some bytes of a file.

    Args:
        changes: offset in the file, and the bytes that go there.
        says: what they are, for people.

    Raises:
        RefusedError: a sleeping system or a journal that is not replayed, or a file that is not
            stored in plain blocks.
    """
    inside = read_contents(disk.source, volume)
    check_awake(inside)
    if volume.kind.is_journaled and inside.info.state is not VolumeState.CLEAN:
        raise RefusedError(
            f"Volume {volume.number} was not closed properly; its journal would undo the change.",
            "Have the file system checked first.",
        )
    try:
        files = open_files(disk.source, volume)
        found = files.find(path)
        where = files.extents(found) if found is not None else None
    except FilesUnavailableError as error:
        raise RefusedError(error.says, error.hint) from error
    if where is None:
        raise RefusedError(
            f"{path} on volume {volume.number} is not stored in plain blocks.", "Change it by hand."
        )
    return [
        patch for at, data in changes for patch in _patches(disk, volume, where, at, data, says)
    ]


def read_file(disk: Disk, volume: Volume, path: str, limit: int = FILE_BYTES) -> bytes | None:
    """The content of a file; None where it is not there or cannot be read."""
    try:
        files = open_files(disk.source, volume)
        found = files.find(path)
        return files.read(found, limit) if found is not None and not found.is_folder else None
    except FilesUnavailableError:
        return None


def _patches(
    disk: Disk, volume: Volume, where: list[tuple[int, int]], at: int, data: bytes, says: str
) -> list[Patch]:
    """One patch for every extent that the change touches."""
    patches, start = [], 0
    for offset, length in where:
        first, last = max(at, start), min(at + len(data), start + length)
        if first < last:
            place = volume.offset + offset + first - start
            before = disk.source.read(place, last - first).data
            patches.append(Patch(place, before, data[first - at : last - at], says))
        start += length
    return patches
