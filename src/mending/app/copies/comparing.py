"""Two moments of the settings of a PC set against each other: hives, disks, their earlier moments,
healthy copies, folders.
"""

from collections.abc import Callable
from pathlib import Path

from mending.app.host import Host
from mending.app.opening import moment_of
from mending.app.targets import NamedTarget
from mending.app.tracing import keep_no_memory
from mending.boot.settings import (
    CompareResult,
    HiveSet,
    compared,
    hive_set_of,
    losses_of,
    one_hive,
)
from mending.disk.files import FilesUnavailableError, open_files, open_tree
from mending.disk.healthy import HealthyCopy, load_copy
from mending.disk.layout import survey, volume_at_moment
from mending.disk.locked import GivenKey, KeyRing, volumes_of
from mending.disk.volume import Volume
from mending.model import FilesystemKind, InputError, UsageError
from mending.model.limits import HIVE_BYTES
from mending.source import Source, open_folder_source, open_source

_HIVE, _COPY = b"regf", b"PK"


def compare(first: str, second: str, host: Host, secret: GivenKey | None = None) -> CompareResult:
    """What is otherwise in the settings of the second side.

    Args:
        first, second: a hive, a disk, `DISK@N` for the moment N that it keeps, a healthy copy, a
            mounted system, a folder of hives, or a case with a disk.
        secret: what opens locked volumes of disks; it is kept nowhere.

    Raises:
        InputError: one of them holds no settings that can be read.
        UsageError: both are one hive of another kind each.
    """
    if secret is not None:
        keep_no_memory()
    keys = KeyRing(secret)
    sides = _hives_of(first, host, keys), _hives_of(second, host, keys)
    both = [(side.system is not None, side.programs is not None) for side in sides]
    if not any(one and other for one, other in zip(*both, strict=True)):
        raise UsageError(
            f"{first} and {second} hold no hive of the same kind.",
            "Compare system hives with system hives, and those of programs with their like.",
        )
    return compared((first, second), *sides)


def losses(path: str, number: int, keys: KeyRing) -> tuple[str, ...]:
    """What going back to an earlier moment of a disk would take and bring, by the hives of both;
    the start's own parts first. Nothing where either cannot be read.
    """
    try:
        before, now = (_of_file(path, each, keys) for each in (number, None))
        if before is None or now is None:
            return ()
        return losses_of(before, now)
    except (InputError, FilesUnavailableError):  # the point itself is told all the same
        return ()


def _hives_of(name: str, host: Host, keys: KeyRing) -> HiveSet:
    disk, number = moment_of(name)
    path = NamedTarget(disk, host).path
    if Path(path).is_dir():
        if number is not None:
            raise UsageError(f"{path} is a folder; a disk keeps earlier moments.")
        found = _opened(lambda: hive_set_of(open_tree(open_folder_source(path), caseless=True)))
    else:
        found = _of_file(path, number, keys)
    if found is None:
        raise InputError(f"{name} holds no settings of the nt family.")
    return found


def _of_file(path: str, number: int | None, keys: KeyRing) -> HiveSet | None:
    with open_source(path) as source:
        head = source.read(0, 512).data
        if head.startswith(_HIVE):
            return one_hive(path, source.read(0, min(source.size, HIVE_BYTES)).data)
        if head.startswith(_COPY):
            return _of_copy(load_copy(Path(path)))
        return _of_disk(source, path, number, keys)


def _of_copy(copy: HealthyCopy) -> HiveSet | None:
    """The hives that a healthy copy holds."""
    numbers = {
        file.path.rpartition("/")[2].lower(): number
        for number, file in enumerate(copy.index.files)
        if file.path.lower().rpartition("/")[0].endswith("system32/config")
    }
    if "system" not in numbers:
        return None
    return one_hive(f"the system hive of {copy.path}", copy.file_bytes(numbers["system"]))


def _of_disk(disk: Source, path: str, number: int | None, keys: KeyRing) -> HiveSet | None:
    locked = any(
        volume.encrypted for volume in survey(disk).volumes
    )  # the key may be for the other
    source, listed = volumes_of(disk, keys if locked else None)
    volumes = [volume for volume in listed if volume.filesystem is FilesystemKind.NTFS]
    if number is None:
        return _first(source, volumes)
    refused: InputError | None = None
    for volume in volumes:
        try:
            viewed, was = volume_at_moment(source, volume, number)
        except InputError as error:
            refused = error
            continue
        found = _first(viewed, [was])
        if found is not None:
            return found
    if refused is not None:
        raise refused
    raise InputError(f"{path} keeps no moment {number} that holds a system of the nt family.")


def _first(source: Source, volumes: list[Volume]) -> HiveSet | None:
    for volume in volumes:
        try:
            found = hive_set_of(open_files(source, volume))
        except FilesUnavailableError:  # damage hides this volume; another may hold the system
            continue
        if found is not None:
            return found
    return None


def _opened(read: Callable[[], HiveSet | None]) -> HiveSet | None:
    try:
        return read()
    except FilesUnavailableError as error:
        raise InputError(error.says) from error
