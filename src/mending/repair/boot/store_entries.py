"""`boot-entries` for the nt family: an entry for each sound system in the boot configuration; a new
configuration where the present one cannot be read.

A store that can be read is added to, never replaced; entries that work are kept. Objects, elements
and their kinds as the public descriptions of the store have them.
"""

import uuid
from collections.abc import Mapping

import msgspec

from mending.boot.nt import NtStart, StoreVolumes, current_version, read_program, replayed_hive
from mending.disk.hives import Hive, HiveEditor, new_hive
from mending.disk.volume import Volume
from mending.formats.nt import boot_store as store
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import Change, Finding, FindingId, RefusedError, RepairId, clean_text
from mending.repair.base import Proposal, Request
from mending.repair.boot.store_places import device_of, store_home
from mending.repair.boot.store_recovery import Home, Recovery, home_of, recoveries
from mending.repair.files import (
    ELEMENT,
    PROGRAMS_HIVE,
    HiveFile,
    default_entry,
    element_path,
    free_name,
    hive_changes,
    nt_homes,
    objects_of,
    open_hive,
    open_store,
    open_system_hive,
    put_files,
    read_all,
    set_element,
)

REPAIR = RepairId.BOOT_ENTRIES
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
_LONGEST = 120
_NO_WAY = "without a way to recovery, which nothing here names"


class _System(msgspec.Struct, frozen=True):
    """A sound system that an entry may start."""

    start: NtStart
    loader: str
    title: str
    device: bytes
    identity: str


def propose(request: Request) -> Proposal:
    """Changes of the boot configuration.

    Raises:
        RefusedError: it starts a sound system already, there is none, or a guard says no.
    """
    asking = [each for each in request.calling_for(REPAIR) if each.id in KINDS]
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
        repair=REPAIR,
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
    return clean_text(name, _LONGEST) if name else plain


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
