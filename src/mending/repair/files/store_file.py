"""The boot configuration of the nt family as something that repairs change: objects, elements, and
the one store that counts.
"""

from collections.abc import Iterator

from mending.boot.chain import OutOfReachError
from mending.boot.nt import store_places
from mending.disk.hives import Hive, HiveEditor, Key
from mending.disk.volume import Volume
from mending.formats.nt import boot_store as store
from mending.model import RefusedError
from mending.repair.base import Request
from mending.repair.files.hive_file import HiveFile, open_hive

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
