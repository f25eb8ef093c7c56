"""The repair `store-device`: devices of the boot configuration that are not on this disk, led to
the one volume that can be meant: after a copy to another disk, or when a partition was moved.
"""

from mending.boot.nt import NtStart, StoreVolumes, read_program
from mending.disk.hives import Hive, Key
from mending.disk.volume import Volume
from mending.formats.nt import boot_store as store
from mending.formats.nt.boot_store import StoreDevice
from mending.model import FindingId, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.boot.store_places import device_of
from mending.repair.files import (
    ELEMENT,
    hive_changes,
    nt_homes,
    objects_of,
    open_store,
    set_element,
)

REPAIR = RepairId.STORE_DEVICE
_DEVICE_FORMAT, _GUID_BYTES = 1, 16


def propose(request: Request) -> Proposal:
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
        repair=REPAIR,
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
