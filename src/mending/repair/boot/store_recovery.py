"""The way to recovery, taken over into a boot configuration that is made anew.

An entry for recovery starts from an image that is unpacked into memory. How it names that image is
published nowhere, so none is made up here: what an entry for the same system names as its recovery,
in another boot configuration of this disk or in what is left of the damaged one, is taken over to
the last bit. Only where all of it is there, and a volume of this disk that its device names holds
the image.
"""

import contextlib
import re
from collections.abc import Iterator, Mapping
from itertools import islice

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import LOGS, StoreVolumes, store_places
from mending.disk.hives import Key, remaining_keys
from mending.disk.volume import Volume
from mending.formats.nt import boot_store as store
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import RefusedError
from mending.repair.base import Request
from mending.repair.boot.store_places import device_of
from mending.repair.files import ELEMENT, read_all

_IDENTITY = re.compile(r"\{[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}\}", re.IGNORECASE)
_NAME = re.compile(rb"\\\0(?:[^\0]\0|[\0-\xff][\x01-\xff])+?\0\0")
"""A path in UTF-16, as a device holds the one of its image."""
_PARTITION, _DISK = slice(32, 48), slice(56, 72)
"""Where the device of a plain volume names its partition and its disk."""
_DEVICES = (store.DEVICE, store.SYSTEM_DEVICE)
_MOST_OBJECTS, _MOST_ELEMENTS, _MOST_BESIDE = 512, 128, 8
"""Real stores have a dozen objects, and a dozen elements in each."""
_MOST_INSIDE, _LONGEST, _LARGEST = 16, 64 << 10, 4 << 20
"""Keys or values in an object or an element; bytes of an element; bytes of a store."""


class StoreObject(msgspec.Struct, frozen=True):
    """An object of a boot configuration; `is_whole` unless anything of it is lost."""

    kind: int
    elements: Mapping[int, bytes]
    is_whole: bool


class Recovery(msgspec.Struct, frozen=True):
    """The way to recovery of one system.

    Attributes:
        elements: of the system's entry, those that name it.
        objects: by their identities those that have to be there for it.
        told_by: where it was found.
    """

    elements: Mapping[int, bytes]
    objects: Mapping[str, StoreObject]
    told_by: str


Home = tuple[int, str]
"""A system: the number of its volume and its folder there, in small letters."""


def home_of(volume: Volume, root: str) -> Home:
    """How a system is named here. Args: root: its folder, with slashes of either kind."""
    return volume.number, root.replace("\\", "/").strip("/").casefold()


def recoveries(
    request: Request, volume: Volume, path: str, wanted: set[Home]
) -> tuple[dict[Home, Recovery], str]:
    """The ways to recovery of systems; and why one that was found is not taken over.

    Args:
        volume, path: where the boot configuration that is made is, and perhaps was.
        wanted: the systems that get an entry.
    """
    found, why = dict[Home, Recovery](), ""
    for where, place in _sources(request, volume, path):
        try:
            objects = _objects(read_all(request, where, place))
        except RefusedError:
            continue
        for home, entry in _entries(request, where, objects):
            if home not in wanted or home in found or store.RECOVERY_SEQUENCE not in entry:
                continue
            elements = {
                element: entry[element]
                for element in (store.RECOVERY_SEQUENCE, store.RECOVERY_ENABLED)
                if element in entry
            }
            needed, lost = _needed(objects, store.texts(entry[store.RECOVERY_SEQUENCE]))
            lost = lost or _lost_image(request, needed)
            if lost:
                why = f"the recovery that {place} names is not taken over: {lost}"
                continue
            found[home] = Recovery(elements, needed, place)
    return found, "" if wanted <= found.keys() else why


def _sources(request: Request, volume: Volume, path: str) -> Iterator[tuple[Volume, str]]:
    """The damaged store itself, what lies beside it under its name with something behind, and the
    other stores of the disk; without those that cannot be reached or are larger than any real one.
    """
    environment = request.environment
    places, seen = [(volume, path)], set[tuple[int, str]]()
    folder, _, name = path.rpartition("/")
    with contextlib.suppress(OutOfReachError):
        home = environment.find(volume, folder or "/")
        if home is not None and home.is_folder:
            beside = environment.files(volume).listing(home.path)
            kept = (each.path for each in beside if _is_copy(each.path, name))
            places += [(volume, each) for each in islice(kept, _MOST_BESIDE)]
        places += [(each.volume, each.path) for each in store_places(environment)]
    for where, place in places:
        found, key = None, (where.number, place.casefold())
        with contextlib.suppress(OutOfReachError):
            found = environment.find(where, place) if key not in seen else None
        seen.add(key)
        if found is not None and found.bytes <= _LARGEST:
            yield where, place


def _is_copy(path: str, name: str) -> bool:
    ending = path.rpartition("/")[2].upper().removeprefix(name.upper())
    return ending.startswith(".") and ending not in LOGS


def _objects(data: bytes) -> dict[str, StoreObject]:
    """What can be read of the objects of a store, sound or damaged; none of which two are there
    that differ.
    """
    found, unclear = dict[str, StoreObject](), set[str]()
    named = (key for key in remaining_keys(data) if _IDENTITY.fullmatch(key.name))
    for key in islice(named, _MOST_OBJECTS):
        made = _object(key)
        identity = key.name.lower()
        if made is not None and found.setdefault(identity, made) != made:
            unclear.add(identity)
    return {name: each for name, each in found.items() if name not in unclear}


def _object(key: Key) -> StoreObject | None:
    """None: it is no object, or nothing of it can be read."""
    elements, whole = dict[int, bytes](), True
    try:
        inside = {each.name.lower(): each for each in islice(key.children(), _MOST_INSIDE)}
        description, listed = inside.get("description"), inside.get("elements")
        if description is None or listed is None or description.cell.values > _MOST_INSIDE:
            return None
        kind = description.number("Type")
        keys = list(islice(listed.children(), _MOST_ELEMENTS + 1))
    except DamagedHiveError:
        return None
    for element in keys:
        data, number = None, 0
        with contextlib.suppress(DamagedHiveError, ValueError):
            data, number = _element(element), int(element.name, 16)
        if data is None or store.format_of(number) not in store.FORMATS:
            whole = False
            continue
        elements[number] = data
    if kind is None:
        return None
    return StoreObject(kind, elements, whole and len(keys) <= _MOST_ELEMENTS)


def _element(key: Key) -> bytes | None:
    """The bytes of an element; None where it has none, or more than any real one."""
    value = key.value(ELEMENT) if key.cell.values <= _MOST_INSIDE else None
    return key.data(ELEMENT) if value is not None and value.length <= _LONGEST else None


def _entries(
    request: Request, where: Volume, objects: Mapping[str, StoreObject]
) -> Iterator[tuple[Home, Mapping[int, bytes]]]:
    """The elements of every entry that starts a system of this disk, and which system that is."""
    volumes = StoreVolumes(request.environment, where)
    for each in objects.values():
        device = store.device(each.elements.get(store.SYSTEM_DEVICE, b""))
        if each.kind != store.SYSTEM_LOADER or device.kind != "partition":
            continue
        volume = None
        with contextlib.suppress(OutOfReachError):
            volume, _ = volumes.find(device, "")
        root = "".join(store.texts(each.elements.get(store.SYSTEM_ROOT, b"")))
        if volume is not None and root:
            yield home_of(volume, root), each.elements


def _needed(
    objects: Mapping[str, StoreObject], names: tuple[str, ...]
) -> tuple[dict[str, StoreObject], str]:
    """The named objects and all that they name in turn; and what is lost of that."""
    needed, waiting = dict[str, StoreObject](), [name.lower() for name in names]
    while waiting:
        name = waiting.pop()
        if name in needed:
            continue
        each = objects.get(name)
        if each is None or not each.is_whole:
            return {}, f"a part of it, {name}, is lost"
        needed[name] = each
        waiting += [other.lower() for other in store.texts(each.elements.get(store.INHERITS, b""))]
        options = [store.options_of(each.elements.get(device, b"")) for device in _DEVICES]
        waiting += [option for option in options if option]
    return needed, "" if needed else "it names nothing"


def _lost_image(request: Request, objects: Mapping[str, StoreObject]) -> str:
    """Which image is not there; empty where all are, at least one."""
    loaders = [each for each in objects.values() if each.kind == store.SYSTEM_LOADER]
    if not loaders:
        return "no entry is among it"
    for each in loaders:
        for element in _DEVICES:
            raw = each.elements.get(element, b"")
            if not _holds_image(request, raw):
                return "its image is not on this disk"
    return ""


def _holds_image(request: Request, raw: bytes) -> bool:
    """Whether a volume of this disk that a device names holds a file that it names."""
    paths = [
        match.group()[:-2].decode("utf-16-le", "replace").replace("\\", "/")
        for match in islice(_NAME.finditer(raw), _MOST_BESIDE)
    ]
    for volume in request.environment.volumes:
        try:
            device = device_of(request, volume)
            if not (device[_PARTITION] in raw and device[_DISK] in raw):
                continue
            files = [request.environment.find(volume, path) for path in paths]
        except (RefusedError, OutOfReachError):
            continue
        if any(file is not None and file.bytes and not file.is_folder for file in files):
            return True
    return False
