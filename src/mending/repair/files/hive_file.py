"""A hive on a volume, changed: with its logs laid in, complete, and nothing in it but what was
announced.
"""

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, NtStart, replayed_hive
from mending.disk.hives import Hive, HiveEditor, Replayed, changed_places, newest_of
from mending.disk.volume import Volume
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import Change, InputError, RefusedError
from mending.model.limits import HIVE_BYTES
from mending.repair.base import Request
from mending.repair.files.in_place import patch_file
from mending.repair.files.placement import put_files

_NEAR = 512
SYSTEM_HIVE, PROGRAMS_HIVE = "system32/config/system", "system32/config/software"
"""Below the folder of a system."""


class HiveFile(msgspec.Struct, frozen=True):
    """One hive.

    Attributes:
        path: as it is written on the volume.
        data: the file. after: the same with its logs.
        newest: number of the last write that the logs tell of.
    """

    volume: Volume
    path: str
    data: bytes
    after: Replayed
    newest: int

    def editor(self) -> HiveEditor:
        """The hive to be changed."""
        return HiveEditor(self.after.data)


def open_hive(request: Request, volume: Volume, path: str) -> HiveFile:
    """A hive that can be used.

    Raises:
        RefusedError: it is not there, or cannot.
    """
    environment = request.environment
    try:
        found = environment.find(volume, path)
        if found is None:
            raise RefusedError(f"{path} is not on volume {volume.number}.")
        hive, after, why = replayed_hive(environment, volume, found.path)
        data = environment.read(volume, found.path, HIVE_BYTES)
        logs = [environment.read(volume, f"{found.path}{ending}", HIVE_BYTES) for ending in LOGS]
    except (OutOfReachError, DamagedHiveError) as error:
        raise RefusedError(f"{path} cannot be read: {error}") from error
    if hive is None:
        raise RefusedError(f"{found.path} cannot be used: {why}.", "Mend the hive first.")
    return HiveFile(volume, found.path, data, after, newest_of(logs))


def open_system_hive(request: Request, start: NtStart, name: str = SYSTEM_HIVE) -> HiveFile:
    """A hive of a system. Raises as `open_hive`."""
    return open_hive(request, start.volume, start.path(name))


def hive_changes(request: Request, file: HiveFile, editor: HiveEditor, says: str) -> list[Change]:
    """The changes that put an edited hive in its place.

    Raises:
        RefusedError: it would hold something else than was meant, or a guard says no.
    """
    after = editor.finished(file.newest)
    try:
        other = changed_places(Hive(file.after.data), Hive(after)) - editor.touched
        problems = set(Hive(after).check()) - set(Hive(file.after.data).check())
    except DamagedHiveError as error:
        raise RefusedError(f"{file.path} is damaged inside: {error.says}") from error
    if other or problems:
        raise RefusedError(
            f"{file.path} hangs together in a way in which it cannot be changed safely.",
            "Put back a whole set of hives.",
        )
    return put_hive(request, file.volume, file.path, file.data, after, says)


def put_hive(
    request: Request, volume: Volume, path: str, before: bytes, after: bytes, says: str
) -> list[Change]:
    """The changes that put the bytes of a hive in place of others: where they are, as far as they
    are as many.

    Raises:
        RefusedError: a guard says no, or the file must grow and may not.
    """
    if len(after) == len(before):
        parts = [(at, after[at : at + length]) for at, length in differing(before, after)]
        if not parts:
            raise RefusedError(f"{path} is already what would be written.", "Nothing is written.")
        try:
            return [*patch_file(request.disk, volume, path, parts, says)]
        except InputError as error:
            raise RefusedError(error.says, error.hint) from error
    return put_files(request, volume, {path: after}, says)


def differing(before: bytes, after: bytes) -> list[tuple[int, int]]:
    """Where two contents of one length differ, place and length, in whole blocks of 512 bytes."""
    found: list[tuple[int, int]] = []
    for at in range(0, len(after), _NEAR):
        if before[at : at + _NEAR] == after[at : at + _NEAR]:
            continue
        length = min(_NEAR, len(after) - at)
        if found and sum(found[-1]) == at:
            found[-1] = (found[-1][0], found[-1][1] + length)
        else:
            found.append((at, length))
    return found
