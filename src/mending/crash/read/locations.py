"""Which files of a target may tell of crashes: one file, a folder of records, a mounted system, or
a disk.
"""

from collections.abc import Iterable, Iterator
from contextlib import contextmanager
from pathlib import Path

import msgspec

from mending.crash.read.events import FileRead
from mending.crash.results import SHADOW
from mending.disk.content_kind import HEAD_BYTES, content_kind_of
from mending.disk.files import FileFound, Files, FilesUnavailableError, open_files, open_tree
from mending.disk.layout import with_logical_volumes
from mending.disk.locked import KeyRing, volumes_of
from mending.disk.shadow import shadow_copies
from mending.disk.system import Brought, brought_by, drivers_of, systems_on
from mending.model import FilesystemKind, InputError, RestorePoint
from mending.source import FileOnDisk, MemorySource, Source, open_folder_source, open_source

# Where an installed system keeps what tells of crashes; its folders are found by structure, not by
# name.


_PLACES = ("var/log", "run/log", "var/lib/systemd/pstore", "sys/fs/pstore", "var/crash")
_NAMES = (
    *("kern.log", "messages", "syslog", "dmesg", "console", "dpkg.log", "wtmp", "history.log"),
    *("dnf.log", "dnf.rpm.log", "yum.log", "pacman.log"),
)
_JOURNALS = (".journal", ".journal~")
_SNAPSHOTS = ".snapshots"
_DEPTH, _MOST, _FOLDERS = 2, 400, 400
_HIVES, _SETUP = ("system", "software"), "inf"
_LOGS = ("system.", "application.")
"""The two event logs that tell of starts, drivers, updates and programs; a PC keeps hundreds of
others.
"""


def records_of_system(files: Files) -> list[FileFound] | None:
    """The records of the systems on a volume; None where none is installed there. Raises
    FilesUnavailableError.
    """
    homes = [file for place in _PLACES if (file := files.find(place)) is not None]
    found = [file for home in homes for file in _below(files, home.path, 0) if _is_log(file.path)]
    found += [file for file in _snapshots(files) if file.path.endswith("/info.xml")]
    systems = systems_on(files, 0).systems
    for system in systems:
        if system.family == "nt":
            found += _of_nt(files, system.title)
    return _kept(found) if homes or systems else None


def records_in_folder(files: Files) -> list[FileFound]:
    """Every file of a folder that somebody filled with records."""
    return _kept(_below(files, "/", 0))


def _kept(found: list[FileFound]) -> list[FileFound]:
    return [file for file in found if file.bytes][:_MOST]


def _below(files: Files, folder: str, depth: int) -> list[FileFound]:
    """Plain files in a folder and the folders in it."""
    inside = [file for file in files.listing(folder) if not file.is_link]
    below = [
        each
        for file in inside
        if file.is_folder and depth < _DEPTH
        for each in _below(files, file.path, depth + 1)
    ]
    return [file for file in inside if not file.is_folder] + below


def _is_log(path: str) -> bool:
    name = path.rpartition("/")[2]
    if name.endswith(_JOURNALS):
        return name.startswith("system")
    if "/zypp/history" in path:
        return True
    return "/pstore/" in path or "/crash/" in path or name.startswith(_NAMES)


def _snapshots(files: Files) -> list[FileFound]:
    """What is written down with each snapshot of the root; the snapshots themselves are not gone
    through.
    """
    home = files.find(_SNAPSHOTS)
    return (
        [file for folder in _folders(files, home.path) for file in _inside(files, folder.path)]
        if home
        else []
    )


def _of_nt(files: Files, top: str) -> list[FileFound]:
    """Dumps in the system's folder and one below it; event logs and logs of repairs deeper down."""
    found = [file for file in _inside(files, top) if _ends(file, ".dmp")]
    for folder in _folders(files, top):
        found += [file for file in _inside(files, folder.path) if _ends(file, ".dmp")]
    found += _settings(files, top)
    programs = files.find(f"{top}/system32")
    for folder in _folders(files, programs.path) if programs else []:
        for inner in _folders(files, folder.path):
            name = inner.path.rpartition("/")[2].casefold()
            if name == "logs":
                found += [
                    file
                    for file in _inside(files, inner.path)
                    if _ends(file, ".evtx") and _wanted(file)
                ]
            elif (
                "log" in folder.path.casefold()
            ):  # the automatic repair keeps its log in one of these
                found += [file for file in _inside(files, inner.path) if _ends(file, ".txt")]
    return found


def _settings(files: Files, top: str) -> Iterator[FileFound]:
    """Hives that keep dates, and logs of the set-up of devices."""
    for name in _HIVES:
        found = files.find(f"{top}/system32/config/{name}")
        if found is not None and not found.is_folder:
            yield found
    home = files.find(f"{top}/{_SETUP}")
    if home is not None and home.is_folder:
        yield from (file for file in _inside(files, home.path) if _ends(file, ".log"))


def _inside(files: Files, folder: str) -> Iterator[FileFound]:
    try:
        yield from (
            file for file in files.listing(folder) if not file.is_folder and not file.is_link
        )
    except FilesUnavailableError:  # one damaged folder hides its own files only
        return


def _folders(files: Files, folder: str) -> list[FileFound]:
    try:
        return [file for file in files.listing(folder) if file.is_folder][:_FOLDERS]
    except FilesUnavailableError:
        return []


def _ends(file: FileFound, ending: str) -> bool:
    return file.path.casefold().endswith(ending)


def _wanted(file: FileFound) -> bool:
    return file.path.rpartition("/")[2].casefold().startswith(_LOGS)


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
