"""`boot-entries` for the nt family: an entry for each sound system in the boot configuration; a new
configuration where the present one cannot be read.

A store that can be read is added to, never replaced; entries that work are kept. Objects, elements
and their kinds as the public descriptions of the store have them.
"""

import contextlib
import re
import uuid
from collections.abc import Iterator, Mapping
from itertools import islice

import msgspec

from mending.boot.chain import OutOfReachError
from mending.boot.nt import (
    LOGS,
    NtStart,
    StoreVolumes,
    current_version,
    read_program,
    replayed_hive,
    store_places,
)
from mending.disk.hives import Hive, HiveEditor, Key, new_hive, remaining_keys
from mending.disk.volume import Volume
from mending.formats import boot_store as store
from mending.formats.boot_store import StoreDevice, encode_device
from mending.formats.hives import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Change, Finding, FindingId, RefusedError, RepairId, clean_text
from mending.repair.base import Proposal, Request
from mending.repair.files import free_name, put_files, read_all
from mending.repair.nt.changing import (
    ELEMENT,
    PROGRAMS_HIVE,
    HiveFile,
    default_entry,
    element_path,
    hive_changes,
    nt_homes,
    objects_of,
    open_hive,
    open_store,
    open_system_hive,
    set_element,
)

# How the boot configuration names volumes of this disk, and where it would be looked for.


def device_of(request: Request, volume: Volume) -> bytes:
    """The element that names a volume of this disk.

    Raises:
        RefusedError: the disk has no identity of its own.
    """
    outer = request.environment.outside(volume)
    disk = StoreVolumes(request.environment, outer).disk_identity()
    if not disk or not disk.strip("0-"):
        raise RefusedError("The disk has no identity that a boot configuration could name.")
    if outer.partuuid and request.disk.gpt is not None:
        return encode_device(StoreDevice("partition", disk, outer.partuuid.lower()))
    return encode_device(StoreDevice("partition", disk, offset=outer.offset))


def store_home(request: Request, path: str) -> Volume:
    """The volume on which a boot configuration of this path is looked for: the active one, or the
    ESP that has the folder.

    Raises:
        RefusedError: that cannot be told.
    """
    environment, folder = request.environment, path.rpartition("/")[0]
    if request.trace.firmware == "bios":
        found = [each for each in environment.volumes if each.active and not each.extended]
    else:
        found = [each for each in environment.volumes if each.efi]
        having = [each for each in found if _has(request, each, folder)]
        found = having or found
    if len(found) != 1:
        count = "No volume" if not found else f"{len(found)} volumes"
        raise RefusedError(f"{count} could hold {path}, so where it goes cannot be told.")
    return found[0]


def _has(request: Request, volume: Volume, folder: str) -> bool:
    try:
        return request.environment.find(volume, folder) is not None
    except OutOfReachError:
        return False


# The way to recovery, taken over into a boot configuration that is made anew.
#
# An entry for recovery starts from an image that is unpacked into memory. How it names that image
# is published nowhere, so none is made up here: what an entry for the same system names as its
# recovery, in another boot configuration of this disk or in what is left of the damaged one, is
# taken over to the last bit. Only where all of it is there, and a volume of this disk that its
# device names holds the image.


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


STORE_ENTRIES = RepairId.BOOT_ENTRIES
KINDS = (
    FindingId.BOOT_STORE_MISSING,
    FindingId.BOOT_STORE_DAMAGED,
    FindingId.BOOT_STORE_NO_ENTRY,
    FindingId.BOOT_STORE_VOLUME_GONE,
    FindingId.SYSTEM_LOADER_MISSING,
)
_OURS = uuid.UUID("5ea00000-0000-4000-8000-0000000000bd")
_LOADER_SETTINGS = "{6efb52bf-1766-41db-a6b3-0ee5eff72bd7}"
_GLOBAL_SETTINGS = "{7ea2e1ac-2e61-4728-aaa3-896d9d0a9f0e}"
_MANAGER_KIND, _LOADER_SETTINGS_KIND, _GLOBAL_KIND = 0x1010_0002, 0x2020_0003, 0x2010_0000
_SETTINGS = ((_GLOBAL_SETTINGS, _GLOBAL_KIND), (_LOADER_SETTINGS, _LOADER_SETTINGS_KIND))
"""Objects that others inherit from."""
_TIMEOUT, _SECONDS = 0x2500_0004, 30
_TEXT, _NUMBER = 1, 4
_ROOT = "NewStoreRoot"
_OLD = "old"
_STORE_ENTRIES_LONGEST = 120
_NO_WAY = "without a way to recovery, which nothing here names"


class _System(msgspec.Struct, frozen=True):
    """A sound system that an entry may start."""

    start: NtStart
    loader: str
    title: str
    device: bytes
    identity: str


def propose_store_entries(request: Request) -> Proposal:
    """Changes of the boot configuration.

    Raises:
        RefusedError: it starts a sound system already, there is none, or a guard says no.
    """
    asking = [each for each in request.calling_for(STORE_ENTRIES) if each.id in KINDS]
    if not asking:
        raise RefusedError(
            "The boot configuration starts a system that is there.",
            "Entries that work are not replaced.",
        )
    systems = _systems(request)
    if not systems:
        raise RefusedError(
            "No system with a sound loader and kernel was found.", "Restore its files first."
        )
    volume, path = _place(request, asking)
    present = _present(request, volume, path)
    if present is None:
        says, changes = _anew(request, volume, path, systems)
    else:
        says, changes = _added(request, present, systems)
    return Proposal(
        repair=STORE_ENTRIES,
        says=says,
        changes=tuple(changes),
        answers=tuple(asking),
    )


def _systems(request: Request) -> list[_System]:
    firmware = "uefi" if request.trace.firmware == "uefi" else "bios"
    loader = getattr(nt_names().kernel.loaders, firmware)
    found = []
    for start in nt_homes(request):
        programs = [
            read_program(start, start.path(name)) for name in (loader, nt_names().kernel.file)
        ]
        if any(each is None or each.why or each.unread for each in programs):
            continue
        device = device_of(request, start.volume)
        name = uuid.uuid5(_OURS, f"{device.hex()}{start.root.casefold()}")
        title = _title(request, start)
        found.append(_System(start, start.path(loader), title, device, f"{{{name}}}"))
    return found


def _title(request: Request, start: NtStart) -> str:
    """What the system calls itself, or where it is."""
    plain = f"System on volume {start.volume.number}"
    try:
        hive = Hive(open_system_hive(request, start, PROGRAMS_HIVE).after.data)
        current = current_version(hive)
        name = current.text("ProductName") if current is not None else None
    except (RefusedError, DamagedHiveError):
        return plain
    return clean_text(name, _STORE_ENTRIES_LONGEST) if name else plain


def _place(request: Request, asking: list[Finding]) -> tuple[Volume, str]:
    """Where the boot configuration is, or would be looked for."""
    path = next((each.where.path for each in asking if each.id in KINDS[:4]), None)
    if path is None:
        file = open_store(request)
        return file.volume, file.path
    return store_home(request, path), path


def _present(request: Request, volume: Volume, path: str) -> HiveFile | None:
    """The present store, if it can be read at all."""
    environment = request.environment
    if environment.find(volume, path) is None:
        return None
    try:
        hive, _, _ = replayed_hive(environment, volume, path)
        if hive is None or not any(True for _ in objects_of(hive)):
            return None
    except DamagedHiveError:
        return None
    return open_hive(request, volume, path)


def _anew(
    request: Request, volume: Volume, path: str, systems: list[_System]
) -> tuple[str, list[Change]]:
    editor = HiveEditor(new_hive(0, _ROOT))
    editor.add_key("Description")
    editor.set_value("Description", "KeyName", _TEXT, store.as_text("BCD00000000"))
    for name in ("System", "TreatAsSystem"):
        editor.set_value("Description", name, _NUMBER, (1).to_bytes(4, "little"))
    ways, note = _ways(request, volume, path, systems)
    _fill(request, editor, volume, systems, ways)
    files, kept = {path: editor.finished()}, ""
    found = request.environment.find(volume, path)
    if found is not None and found.bytes:
        kept_as = free_name(request, volume, f"{path}.{_OLD}")
        files[kept_as] = read_all(request, volume, path)
        kept = f"; the one that cannot be read is kept as {kept_as}"
    changes = put_files(request, volume, files, f"boot configuration {path}")
    says = f"Makes the boot configuration {path} anew, for {_listed(systems)}{kept}{note}."
    return says, changes


def _ways(
    request: Request, volume: Volume, path: str, systems: list[_System]
) -> tuple[dict[Home, Recovery], str]:
    """Ways to recovery that can be taken over, by their system, and what is said of them."""
    wanted = {home_of(system.start.volume, system.start.root) for system in systems}
    ways, why = recoveries(request, volume, path, wanted)
    told = [
        f"its way to recovery (volume {number}) as {way.told_by} names it"
        for (number, _), way in sorted(ways.items())
    ]
    if not why and wanted - ways.keys():
        why = _NO_WAY
    return ways, "".join(f"; {each}" for each in [*told, why] if each)


def _added(request: Request, file: HiveFile, systems: list[_System]) -> tuple[str, list[Change]]:
    editor = file.editor()
    hive = Hive(file.after.data)
    working = _working(request, file, hive, systems)
    new = [each for each in systems if each.start.volume.number not in working]
    now = default_entry(hive)
    if now.casefold() in {each.casefold() for each in working.values()} and not new:
        raise RefusedError(f"{file.path} starts a system that is there.", "Nothing is written.")
    ways, note = _ways(request, file.volume, file.path, new)
    _fill(request, editor, file.volume, new, ways, keep=next(iter(working.values()), ""))
    says = f"Adds entries to {file.path}: {_listed(new)}{note}"
    if not new:
        says = f"Lets {file.path} start an entry that works"
    return f"{says}.", hive_changes(request, file, editor, f"entries in {file.path}")


def _working(
    request: Request, file: HiveFile, hive: Hive, systems: list[_System]
) -> dict[int, str]:
    """The entries that start a sound system, by the number of its volume."""
    volumes, found = StoreVolumes(request.environment, file.volume), dict[int, str]()
    for identity, kind, elements in objects_of(hive):
        if kind != store.SYSTEM_LOADER or elements is None:
            continue
        device, path = (elements.child(f"{each:08x}") for each in (store.DEVICE, store.PATH))
        raw = (device.data(ELEMENT) if device is not None else None) or b""
        named = ((path.text(ELEMENT) if path is not None else None) or "").replace("\\", "/")
        volume, _ = volumes.find(store.device(raw), named)
        for system in systems:
            if (
                volume is not None
                and volume.number == system.start.volume.number
                and named.strip("/").casefold() == system.loader.strip("/").casefold()
            ):
                found.setdefault(volume.number, identity)
    return found


def _fill(
    request: Request,
    editor: HiveEditor,
    volume: Volume,
    systems: list[_System],
    ways: Mapping[Home, Recovery],
    keep: str = "",
) -> None:
    """Entries, and a manager that starts one of them.

    Args:
        ways: to recovery, by the system that has them.
        keep: an entry that works.
    """
    for identity, kind in (
        (_GLOBAL_SETTINGS, _GLOBAL_KIND),
        (_LOADER_SETTINGS, _LOADER_SETTINGS_KIND),
    ):
        if editor.hive.find(f"Objects\\{identity}") is None:
            inherited = (
                {} if kind == _GLOBAL_KIND else {store.INHERITS: store.as_texts([_GLOBAL_SETTINGS])}
            )
            _add_object(editor, identity, kind, inherited)
    for system in systems:
        way = ways.get(home_of(system.start.volume, system.start.root))
        elements = {**_elements(system), **(way.elements if way is not None else {})}
        _add_object(editor, system.identity, store.SYSTEM_LOADER, elements)
        for identity, each in (way.objects if way is not None else {}).items():
            if editor.hive.find(f"Objects\\{identity}") is None:
                _add_object(editor, identity, each.kind, each.elements)
    first = keep or systems[0].identity
    manager, wanted = store.BOOT_MANAGER, [system.identity for system in systems]
    if editor.hive.find(f"Objects\\{manager}\\Elements") is None:
        elements = {
            store.DEVICE: device_of(request, volume),
            store.DESCRIPTION: store.as_text("Boot manager"),
            store.INHERITS: store.as_texts([_GLOBAL_SETTINGS]),
            _TIMEOUT: _SECONDS.to_bytes(8, "little"),
        }
        _add_object(editor, manager, _MANAGER_KIND, elements)
    listed = editor.hive.find(element_path(manager, store.DISPLAY_ORDER))
    shown = list((listed.texts(ELEMENT) or ()) if listed is not None else ())
    shown = list(dict.fromkeys([*shown, first, *wanted]))
    set_element(editor, manager, store.DEFAULT, store.as_text(first))
    set_element(editor, manager, store.DISPLAY_ORDER, store.as_texts(shown))


def _elements(system: _System) -> dict[int, bytes]:
    return {
        store.DEVICE: system.device,
        store.PATH: store.as_text(system.loader.replace("/", "\\")),
        store.DESCRIPTION: store.as_text(system.title),
        store.INHERITS: store.as_texts([_LOADER_SETTINGS]),
        store.SYSTEM_DEVICE: system.device,
        store.SYSTEM_ROOT: store.as_text(system.start.root.replace("/", "\\")),
    }


def _add_object(
    editor: HiveEditor, identity: str, kind: int, elements: Mapping[int, bytes]
) -> None:
    path = f"Objects\\{identity}\\Description"
    editor.add_key(path)
    editor.set_value(path, "Type", _NUMBER, kind.to_bytes(4, "little"))
    editor.add_key(f"Objects\\{identity}\\Elements")
    for element, value in sorted(elements.items()):
        set_element(editor, identity, element, value)


def _listed(systems: list[_System]) -> str:
    return ", ".join(f"{each.title} on volume {each.start.volume.number}" for each in systems)


# The repair `store-device`: devices of the boot configuration that are not on this disk, led to
# the one volume that can be meant: after a copy to another disk, or when a partition was moved.


STORE_DEVICE = RepairId.STORE_DEVICE
_DEVICE_FORMAT, _GUID_BYTES = 1, 16


def propose_store_device(request: Request) -> Proposal:
    """Changes of every device that names what is not there.

    Raises:
        RefusedError: every device is there, or none or several volumes could be meant.
    """
    file = open_store(request)
    hive, editor = Hive(file.after.data), file.editor()
    volumes = StoreVolumes(request.environment, file.volume)
    led: dict[bytes, tuple[Volume, bytes]] = {}
    lost = list[tuple[str, int, bytes]]()
    for identity, kind, elements in objects_of(hive):
        for element, raw in _devices(elements):
            device = store.device(raw)
            if device.kind != "partition" or not _is_lost(volumes, device):
                continue
            lost.append((identity, element, raw))
            if kind == store.SYSTEM_LOADER and elements is not None:
                led.setdefault(raw[_GUID_BYTES:], _meant(request, elements))
            elif identity.casefold() == store.BOOT_MANAGER:
                led.setdefault(raw[_GUID_BYTES:], (file.volume, device_of(request, file.volume)))
    told = set[str]()
    for identity, element, raw in lost:
        if raw[_GUID_BYTES:] not in led:
            continue
        volume, device_bytes = led[raw[_GUID_BYTES:]]
        set_element(editor, identity, element, raw[:_GUID_BYTES] + device_bytes[_GUID_BYTES:])
        told.add(f"volume {volume.number}")
    if not told:
        raise RefusedError("Every device of the boot configuration is on this disk.")
    return Proposal(
        repair=STORE_DEVICE,
        says=f"Leads devices of {file.path} to {' and '.join(sorted(told))}, where they must be.",
        changes=tuple(hive_changes(request, file, editor, f"devices in {file.path}")),
        answers=request.found(FindingId.BOOT_STORE_VOLUME_GONE),
    )


def _devices(elements: Key | None) -> list[tuple[int, bytes]]:
    found = []
    for key in elements.children() if elements is not None else ():
        try:
            number = int(key.name, 16)
        except ValueError:
            continue  # a key that is no element
        if number >> 24 & 15 == _DEVICE_FORMAT:
            found.append((number, key.data(ELEMENT) or b""))
    return found


def _is_lost(volumes: StoreVolumes, device: StoreDevice) -> bool:
    return volumes.find(device, "")[0] is None


def _meant(request: Request, elements: Key) -> tuple[Volume, bytes]:
    """The one volume with the system that an entry starts."""
    paths = [elements.child(f"{number:08x}") for number in (store.PATH, store.SYSTEM_ROOT)]
    path, root = (
        ((key.text(ELEMENT) or "") if key is not None else "").replace("\\", "/") for key in paths
    )
    found = [start for start in nt_homes(request) if _fits(start, path, root)]
    if len(found) != 1:
        count = "No system" if not found else f"{len(found)} systems"
        raise RefusedError(
            f"{count} here could be the one that the entry with {path} means.",
            "Add --system VOLUME." if found else "Is the right disk looked at?",
            "--system VOLUME" if found else "",
        )
    return found[0].volume, device_of(request, found[0].volume)


def _fits(start: NtStart, path: str, root: str) -> bool:
    here = root.strip("/").casefold() == start.root.strip("/").casefold()
    return here and read_program(start, path) is not None
