"""Files put in their place: on FAT by our own writer, in the blocks they have where they are as
long, else by the system's own driver; in a mounted tree by name.
"""

from collections.abc import Mapping

from mending.boot.chain import BootEnvironment, TreeEnvironment
from mending.disk.fat import FatWriter
from mending.disk.files import FileFound
from mending.disk.layout import Disk
from mending.disk.system import read_contents
from mending.disk.volume import Volume
from mending.model import Change, FileAttributes, InputError, Patch, RefusedError
from mending.repair.base import Request, check_awake
from mending.repair.files.by_driver import put_by_driver
from mending.repair.files.in_place import patch_file, read_file


def put_files(
    request: Request,
    volume: Volume,
    files: Mapping[str, bytes],
    says: str,
    attributes: Mapping[str, FileAttributes] | None = None,
) -> list[Change]:
    """The changes that put files, by their paths on a volume, in their places.

    Where a file is there already and is as long, nothing but its bytes is changed.

    Args:
        says: what they are, for people.
        attributes: of files that are not there yet; the others keep theirs. FAT has none.

    Raises:
        RefusedError: no room, another length, another file system, or a guard says no.
    """
    environment = request.environment
    if isinstance(environment, TreeEnvironment):
        return _in_tree(environment, volume, files, says, attributes or {})
    disk = environment.disk
    if disk is None:
        raise RefusedError("Files cannot be put here.", "Name the disk or the mounted system.")
    if volume.kind.is_fat:
        check_awake(read_contents(disk.source, volume))
        return [*_on_fat(disk, volume, files, says)]
    plain = not any(given.is_link for given in (attributes or {}).values())
    if plain and _fit(disk, volume, files):
        return _in_their_blocks(disk, volume, files, says)
    return [*put_by_driver(disk, volume, request.settings, files, attributes or {})]


def read_whole(environment: BootEnvironment, volume: Volume, found: FileFound) -> bytes:
    """A file that is to be written anew, to its last byte.

    Raises:
        OutOfReachError: it cannot be read.
        RefusedError: it is longer than is read of one file.
    """
    data = environment.read(volume, found.path)
    if len(data) != found.bytes:
        raise RefusedError(f"{found.path} is too long to be written anew.", "Change it by hand.")
    return data


def _in_tree(
    environment: TreeEnvironment,
    volume: Volume,
    files: Mapping[str, bytes],
    says: str,
    attributes: Mapping[str, FileAttributes],
) -> list[Change]:
    changes: list[Change] = []
    for path, data in files.items():
        in_tree = environment.path_in_tree(volume, path)
        given = attributes.get(path)
        if given is not None and not given.is_link and environment.tree.holds(in_tree) is not None:
            given = None
        changes.append(environment.tree.change_of(in_tree, data, says, given))
    return changes


def _in_their_blocks(
    disk: Disk, volume: Volume, files: Mapping[str, bytes], says: str
) -> list[Change]:
    changes: list[Change] = []
    for path, data in files.items():
        changes += patch_file(disk, volume, path, [(0, data)], says)
    return changes


def _fit(disk: Disk, volume: Volume, files: Mapping[str, bytes]) -> bool:
    """Whether every file is there and is as long as the new one."""
    for path, data in files.items():
        old = read_file(disk, volume, path, len(data) + 1)
        if old is None or len(old) != len(data):
            return False
    return True


def _on_fat(disk: Disk, volume: Volume, files: Mapping[str, bytes], says: str) -> list[Patch]:
    try:
        writer = FatWriter(disk.source, volume.offset)
        for path, data in files.items():
            writer.put(path, data)
        ranges = writer.ranges()
    except InputError as error:
        raise RefusedError(error.says, error.hint) from error
    return [Patch(offset, before, after, says) for offset, before, after in ranges]
