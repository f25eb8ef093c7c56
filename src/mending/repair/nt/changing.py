"""A hive on a volume, changed: with its logs laid in, complete, and nothing in it but what was
announced.
"""

from collections.abc import Iterator

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, NtSettings, NtStart, read_settings, replayed_hive, store_places
from mending.disk.hives import Hive, HiveEditor, Key, Replayed, changed_places, newest_of
from mending.disk.volume import Volume
from mending.formats import boot_store as store
from mending.formats.hives import DamagedHiveError
from mending.model import Change, InputError, RefusedError
from mending.model.limits import HIVE_BYTES
from mending.repair.base import Request
from mending.repair.files import patch_file, put_files

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


# The boot configuration of the nt family as something that repairs change: objects, elements, and
# the one store that counts.


ELEMENT = "Element"
_OBJECTS = "Objects"


def open_store(request: Request) -> HiveFile:
    """The one boot configuration on the disk.

    Raises:
        RefusedError: there is none, or several, or it cannot be used.
    """
    try:
        places = store_places(request.environment)
    except OutOfReachError as error:
        raise RefusedError(f"The boot configuration cannot be read: {error}") from error
    if not places:
        raise RefusedError("There is no boot configuration here.", "Make one: boot-entries.")
    if len(places) > 1:
        listed = ", ".join(f"{each.path} on volume {each.volume.number}" for each in places)
        raise RefusedError(
            f"Which boot configuration starts the PC cannot be told: {listed}.",
            "Change it by hand.",
        )
    return open_hive(request, places[0].volume, places[0].path)


def objects_of(hive: Hive) -> Iterator[tuple[str, int, Key | None]]:
    """Each object: its identifier, its type, its elements.

    Raises:
        DamagedHiveError
    """
    listed = hive.root.child(_OBJECTS)
    for key in listed.children() if listed is not None else ():
        description = key.child("Description")
        kind = description.number("Type") if description is not None else None
        yield key.name, kind or 0, key.child("Elements")


def element_path(identity: str, element: int) -> str:
    """Where an element of an object is in the hive."""
    return f"{_OBJECTS}\\{identity}\\Elements\\{element:08x}"


def set_element(editor: HiveEditor, identity: str, element: int, value: bytes) -> None:
    """Set an element, which is made where it is not there."""
    path = element_path(identity, element)
    editor.add_key(path)
    editor.set_value(path, ELEMENT, store.FORMATS[store.format_of(element)], value)


def default_entry(hive: Hive) -> str:
    """The entry that starts without anybody choosing; empty where the store names none.

    Raises:
        DamagedHiveError
    """
    manager = hive.find(f"{_OBJECTS}\\{store.BOOT_MANAGER}\\Elements")
    for element in (store.DEFAULT, store.DISPLAY_ORDER):
        key = manager.child(f"{element:08x}") if manager is not None else None
        if key is not None:
            named = key.text(ELEMENT) or next(iter(key.texts(ELEMENT) or ()), "")
            if named:
                return named
    return ""


def store_volumes(request: Request) -> list[tuple[Volume, str]]:
    """Volume and path of every boot configuration that is there; none where that is hidden."""
    try:
        return [(place.volume, place.path) for place in store_places(request.environment)]
    except OutOfReachError:
        return []


# The system of the nt family that a repair means.


def nt_homes(request: Request) -> list[NtStart]:
    """Every system of the family on the disk, or the one that the person named."""
    environment, wanted = request.environment, request.settings.system
    return [
        NtStart(environment, volume, system.title)
        for volume in environment.volumes
        if not volume.extended and environment.inside(volume) is volume
        for system in environment.contents(volume).systems
        if system.family == "nt" and wanted in {None, volume.number}
    ]


def nt_home(request: Request) -> NtStart:
    """The one system that is meant.

    Raises:
        RefusedError: there is none, or several and nobody said which.
    """
    homes = nt_homes(request)
    if not homes:
        raise RefusedError(
            "No system of the nt family can be read here.", "Unlock or mend it first."
        )
    if len(homes) > 1:
        listed = " or ".join(f"{home.root} on volume {home.volume.number}" for home in homes)
        raise RefusedError(
            f"Which system is meant: {listed}?", "Add --system VOLUME.", "--system VOLUME"
        )
    return homes[0]


def nt_settings(start: NtStart) -> NtSettings:
    """The settings of a system as its kernel would see them.

    Raises:
        RefusedError: its hive cannot be used.
    """
    settings = read_settings(start)
    if settings is None:
        raise RefusedError(
            f"The system hive of {start.root} cannot be used.", "Mend the hive first."
        )
    return settings
