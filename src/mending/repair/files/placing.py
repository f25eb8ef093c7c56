"""Files put in their place: on FAT by our own writer, in the blocks they have where they are as
long, else by the system's own driver; in a mounted tree by name.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence

from mending.boot.chain import BootEnvironment, OutOfReachError, TreeEnvironment
from mending.disk.fat import FatWriter
from mending.disk.files import FileFound, FilesUnavailableError, open_files
from mending.disk.layout import Disk
from mending.disk.system import read_contents
from mending.disk.volume import DEFAULT_TOP, Volume
from mending.model import (
    Change,
    FileAttributes,
    FilesystemKind,
    InputError,
    Patch,
    RefusedError,
    VolumeState,
)
from mending.model.limits import FILE_BYTES, LARGEST_CHANGE
from mending.repair.base import MendSettings, Request, check_awake
from mending.source import FolderSource, StitchedSource
from mending.source.mounted import ChangedRange, VolumeToMount, drivers_of, work_on

# Changes inside a file, within the blocks that it already has. Nothing but its bytes changes: not
# length, not date.


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


# Files changed by the driver that the operating system has for a volume: where new blocks are
# needed. The driver works on a copy that takes its writes (`source.mounted`); what it wrote is the
# patches.


_PIECE = 1 << 20
_SHOWN = 3


def put_by_driver(
    disk: Disk,
    volume: Volume,
    settings: MendSettings,
    files: Mapping[str, bytes | None],
    attributes: Mapping[str, FileAttributes],
) -> list[Patch]:
    """The bytes that a driver writes to put files, or (None) to take them away.

    Args:
        attributes: of files that are not there yet; the others keep theirs but for the mode.

    Raises:
        RefusedError: it was not asked for, the account may not, the volume was not left clean or is
            of a kind that is not mounted, or a file could not be put.
    """
    shown = f"Volume {volume.number}"
    if not settings.mount:
        raise RefusedError(
            f"{_listed(files)} needs new blocks on {shown.lower()} ({volume.filesystem}).",
            "Add --mount (as root): the system's own driver then writes to a copy of what changes.",
            "--mount",
        )
    top = None if volume.top == DEFAULT_TOP else volume.top
    drivers = drivers_of(volume.filesystem, top)
    if not drivers:
        raise RefusedError(
            f"{shown} ({volume.filesystem}) is not mounted by this program.",
            "Mount it yourself and name its folder as the target.",
        )
    _check_left_clean(disk, volume, settings)
    ranges = _worked_out(
        VolumeToMount(shown, _reads_of(disk, volume), volume.bytes, drivers),
        _puts(files, attributes, volume.filesystem is not FilesystemKind.NTFS),
    )
    says = f"{_listed(files)}, with what the file system keeps of it"
    patches = [
        patch
        for offset, data in ranges
        for patch in _by_driver_patches(disk, volume, offset, data, says)
    ]
    if not patches:
        raise RefusedError(f"{_listed(files)} is already what would be written.")
    return patches


def _worked_out(volume: VolumeToMount, act: Callable[[FolderSource], None]) -> list[ChangedRange]:
    try:
        return work_on(volume, act)
    except InputError as error:  # nothing was written, so it is a repair that cannot be done
        raise RefusedError(error.says, error.hint) from error


def _check_left_clean(disk: Disk, volume: Volume, settings: MendSettings) -> None:
    inside = read_contents(disk.source, volume)
    check_awake(inside)
    if inside.info.state is not VolumeState.CLEAN and not settings.replay:
        raise RefusedError(
            f"Volume {volume.number} was not closed properly: its journal comes first.",
            "Add --replay: the driver then replays it, and undo takes that back too.",
            "--mount --replay",
        )


def _puts(
    files: Mapping[str, bytes | None], attributes: Mapping[str, FileAttributes], has_modes: bool
) -> Callable[[FolderSource], None]:
    def act(tree: FolderSource) -> None:
        for path, data in files.items():
            given = attributes.get(path)
            link = given is not None and given.is_link
            if data is not None and not link and tree.is_plain(path):
                # on a copy nothing can be cut off half-way, so all that the file has can stay
                tree.rewrite(path, data, given.mode if given is not None and has_modes else None)
            else:
                tree.put(tree.change_of(path, data, "", given if has_modes or link else None))

    return act


def _reads_of(disk: Disk, volume: Volume) -> Callable[[int, int], bytes]:
    """Reads of a volume; what lies behind the end of the disk is not there."""

    def read(offset: int, length: int) -> bytes:
        parts = []
        for at in range(offset, offset + length, _PIECE):
            step = min(_PIECE, offset + length - at)
            data = disk.source.read(volume.offset + at, step).data
            parts.append(data)
            if len(data) < step:
                break
        return b"".join(parts)

    return read


def _by_driver_patches(
    disk: Disk, volume: Volume, offset: int, data: bytes, says: str
) -> Iterator[Patch]:
    at = 0
    for place, length in _places(disk, volume.offset + offset, len(data)):
        for start in range(0, length, _PIECE):
            step = min(_PIECE, length - start)
            before = disk.source.read(place + start, step).data
            after = data[at + start : at + start + step]
            if before != after:
                yield Patch(place + start, before, after, says)
        at += length


def _places(disk: Disk, offset: int, length: int) -> Iterator[tuple[int, int]]:
    if isinstance(disk.source, StitchedSource):
        yield from disk.source.places(offset, length)
    else:
        yield offset, length


def _listed(files: Mapping[str, bytes | None] | Sequence[str]) -> str:
    names = list(files)
    more = f" and {len(names) - _SHOWN} more" if len(names) > _SHOWN else ""
    return ", ".join(names[:_SHOWN]) + more


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


# Files set aside on their own volume: the same bytes under a free name, so that they can be put
# back.


_MOST_NAMES = 1000


def put_aside(request: Request, volume: Volume, paths: list[str], ending: str) -> list[Change]:
    """The changes that set files aside. Needs new rows in a folder, so the system's own driver.

    Raises:
        RefusedError: a file is too long or cannot be read, or a guard says no.
    """
    files: dict[str, bytes | None] = {}
    for path in paths:
        files[free_name(request, volume, f"{path}.{ending}")] = read_all(request, volume, path)
        files[path] = None
    return [*put_by_driver(request.disk, volume, request.settings, files, {})]


def free_name(request: Request, volume: Volume, wanted: str) -> str:
    """A name that nothing on the volume has."""
    wanted = real_path(request, volume, wanted)
    names = (wanted, *(f"{wanted}{number}" for number in range(2, _MOST_NAMES)))
    for name in names:
        if request.environment.find(volume, name) is None:
            return name
    raise RefusedError(f"Every name like {wanted} is taken.")


def real_path(request: Request, volume: Volume, path: str) -> str:
    """A path as the volume writes it, as far as its folders are there: a driver may take other
    letters for another name.
    """
    parts, real = [part for part in path.split("/") if part], ""
    for number, part in enumerate(parts):
        found = request.environment.find(volume, f"{real}/{part}")
        if found is None:
            return "/".join([real, *parts[number:]])
        real = found.path.rstrip("/")
    return real


def read_all(request: Request, volume: Volume, path: str) -> bytes:
    """A whole file.

    Raises:
        RefusedError: it is not there, cannot be read, or is too long.
    """
    environment = request.environment
    try:
        found = environment.find(volume, path)
        data = environment.read(volume, path, LARGEST_CHANGE)
    except OutOfReachError as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error
    if found is None:
        raise RefusedError(f"{path} is not there.")
    return data
