"""Which files of a target may tell of crashes: one file, a folder of records, a mounted system, or
a disk.
"""

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from mending.crash.read.file_read import FileRead
from mending.crash.read.system_locations import records_in_folder, records_of_system
from mending.crash.results import SHADOW
from mending.disk.content_kind import HEAD_BYTES, content_kind_of
from mending.disk.files import Files, FilesUnavailableError, open_files, open_tree
from mending.disk.layout import with_logical_volumes
from mending.disk.locked import KeyRing, volumes_of
from mending.disk.shadow import shadow_copies
from mending.disk.system import Brought, brought_by, drivers_of
from mending.model import FilesystemKind, InputError, RestorePoint
from mending.source import FileOnDisk, MemorySource, Source, open_folder_source, open_source

_MOST_HELD = 256 << 20
"""Bytes of a file that has to be unpacked, or has holes."""


class LogFile(msgspec.Struct, frozen=True):
    """A file of evidence.

    Attributes:
        name: for people.
        path: of the file itself, or of the disk that it lies on.
        modified: when it was written last, in Unix seconds.
        inside: where on the disk: number of the volume and path in it; None for a plain file.
    """

    name: str
    path: Path
    modified: float
    inside: tuple[int, str] | None = None


def log_files(path: Path, keys: KeyRing | None = None) -> list[LogFile]:
    """The records of a target. Links are not followed.

    Args:
        keys: what opens locked volumes of a disk.

    Raises:
        InputError
    """
    if not path.is_dir():
        return _on_disk(path, keys) if _is_disk(path) else [log_file(str(path), path)]
    tree = open_folder_source(str(path))
    files = open_tree(tree)
    try:
        found = records_of_system(files)
        found = records_in_folder(files) if found is None else found
    except FilesUnavailableError:
        return []
    return [log_file(file.path, tree.place(file.path)) for file in found]


def log_file(name: str, path: Path) -> LogFile:
    """A file as evidence.

    Raises:
        InputError: one that is not there.
    """
    try:
        return LogFile(name, path, path.stat().st_mtime)
    except OSError as error:
        raise InputError(f"{path} cannot be read: {error.strerror}.") from error


@contextmanager
def opened_log(file: LogFile, keys: KeyRing | None = None) -> Iterator[Source]:
    """The bytes of a record, read where it lies.

    Raises:
        InputError: a packed file on a disk is too large to be held.
    """
    with open_source(str(file.path)) as source:
        if file.inside is None:
            yield source
            return
        volume, files = _volumes(source, keys)[file.inside[0]]
        found = files.find(file.inside[1])
        if found is None:
            yield MemorySource(b"")
            return
        extents = files.extents(found)
        if extents is not None and sum(length for _, length in extents) >= found.bytes:
            pieces = [(volume.offset + offset, length) for offset, length in extents]
            yield FileOnDisk(volume.source, pieces, found.bytes)
            return
        if found.bytes > _MOST_HELD:
            raise InputError(f"{file.name} lies on the disk in a way that it is too large to read.")
        yield MemorySource(files.read(found, found.bytes))


def moments_on(path: Path, keys: KeyRing | None = None) -> Iterator[FileRead]:
    """What shadow copies keep of a disk, as points to go back to; nothing for what is no disk.

    Raises:
        InputError
    """
    if path.is_dir() or not _is_disk(path):
        return
    with open_source(str(path)) as disk:
        source, volumes = volumes_of(disk, keys)
        for volume in volumes:
            if volume.filesystem is not FilesystemKind.NTFS:
                continue
            where = f"{SHADOW} of volume {volume.number}"
            entries = shadow_copies(source, volume.offset, volume.bytes).entries
            points = tuple(RestorePoint(str(each.number), each.created, where) for each in entries)
            if points:
                yield FileRead(name=where, kind="restore points", points=points)


def packages_of(
    path: Path, names: Iterable[str], keys: KeyRing | None = None
) -> dict[str, Brought]:
    """What packages and devices of a target bring, by their names; empty where no table tells it.

    Raises:
        InputError
    """
    wanted = list(names)
    if not wanted or not (path.is_dir() or _is_disk(path)):
        return {}
    if path.is_dir():
        return _packages(open_tree(open_folder_source(str(path))), wanted)
    with open_source(str(path)) as source:
        found = dict[str, Brought]()
        for _, files in _volumes(source, keys).values():
            found = {**_packages(files, wanted), **found}
    return found


def _packages(files: Files, names: list[str]) -> dict[str, Brought]:
    try:
        return brought_by(files, names) | drivers_of(files, names)
    except FilesUnavailableError:  # damage hides the tables; names are left to tell by
        return {}


def _is_disk(path: Path) -> bool:
    with open_source(str(path)) as source:
        return source.kind == "device" or content_kind_of(source.read(0, HEAD_BYTES).data) == "disk"


def _on_disk(path: Path, keys: KeyRing | None) -> list[LogFile]:
    modified = log_file(str(path), path).modified
    found = []
    with open_source(str(path)) as source:
        for number, (_, files) in _volumes(source, keys).items():
            try:
                records = records_of_system(files) or []
            except FilesUnavailableError:  # damage hides this volume; others may be readable
                continue
            found += [
                LogFile(f"volume {number}: {file.path}", path, modified, (number, file.path))
                for file in records
            ]
    return found


class _Place(msgspec.Struct, frozen=True):
    """Where a volume starts, and on what."""

    source: Source
    offset: int


def _volumes(source: Source, keys: KeyRing | None) -> dict[int, tuple[_Place, Files]]:
    """The volumes of a disk whose files can be read."""
    readable = {}
    source, listed = volumes_of(source, keys)
    source, logical = with_logical_volumes(source, listed)
    for volume in (*listed, *logical):
        try:
            files = open_files(source, volume)
        except FilesUnavailableError:  # no file system with files, or a damaged one
            continue
        readable[volume.number] = (_Place(source, volume.offset), files)
    return readable
