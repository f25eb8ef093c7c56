"""Files changed by the driver that the operating system has for a volume: where new blocks are
needed. The driver works on a copy that takes its writes (`source.mounted`); what it wrote is the
patches.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence

from mending.disk.layout import Disk
from mending.disk.system import read_contents
from mending.disk.volume import DEFAULT_TOP, Volume
from mending.model import (
    FileAttributes,
    FilesystemKind,
    InputError,
    Patch,
    RefusedError,
    VolumeState,
)
from mending.repair.base import MendSettings, check_awake
from mending.source import FolderSource, StitchedSource
from mending.source.mounted import ChangedRange, VolumeToMount, drivers_of, work_on

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
        patch for offset, data in ranges for patch in _patches(disk, volume, offset, data, says)
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


def _patches(disk: Disk, volume: Volume, offset: int, data: bytes, says: str) -> Iterator[Patch]:
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
