"""The boot configuration of the nt family: is the store there and whole, which entry does it start,
and are the volume and the loader there that the entry names?

The manager reads the store beside it, starts its default entry (or one that is meant for the next
start only), and gives up with a status screen where any of that is lost. Graded by public
descriptions of the store, and on stores of our own making: no store of a real system was to be had.
"""

import re
import uuid
from collections.abc import Iterator, Sequence

import msgspec

from mending.boot.chain import (
    BootEnvironment,
    CheckResult,
    Link,
    failed,
    not_checked,
    not_followed,
    passed,
)
from mending.boot.nt.kernel_files import LoaderChecks, system_start
from mending.boot.nt.start import NtStart, lost_bins, nt_finding, replayed_hive
from mending.disk.hives import Hive, Key
from mending.disk.volume import Volume
from mending.formats import boot_store as store
from mending.formats.boot_store import StoreDevice
from mending.formats.hives import DamagedHiveError
from mending.knowledge.families import nt_names
from mending.model import (
    Finding,
    FindingId,
    InputError,
    Phase,
    PhaseState,
    RepairId,
    Severity,
    Where,
)

# Which volume of a disk a device of the boot configuration means.
#
# A partition is named by the identity of its disk and its own: on an MBR disk by signature and
# offset, on a GPT disk by two GUIDs. A copy of a disk has another identity, or its partitions
# moved: then the manager looks for one that is not there.


_WIDE = re.compile(rb"(?:[\x21-\x7e]\0){6,120}")


class StoreVolumes:
    """The volumes that devices are matched with.

    Args:
        home: the volume from which the manager was loaded.
    """

    def __init__(self, environment: BootEnvironment, home: Volume) -> None:
        self._environment, self._home = environment, home

    def find(self, device: StoreDevice, path: str) -> tuple[Volume | None, str]:
        """The volume, or None and why there is none.

        Args:
            path: a file or folder on it, for a device that is found by one.

        Raises:
            OutOfReachError: files of a volume that may be meant cannot be read.
        """
        if device.kind == "boot":
            return self._home, ""
        if device.kind == "search":
            found = [each for each in self._volumes() if self._environment.find(each, path)]
            return (found[0], "") if len(found) == 1 else (None, f"the volume that holds {path}")
        if device.kind != "partition":
            return None, "a device of a kind that is not read"
        if self._environment.disk is None:
            return None, "a partition, which a mounted tree does not tell"
        return self._of_disk(device)

    def is_lost(self, device: StoreDevice) -> bool:
        """Whether a device is a partition that can only be meant to be on this disk and is not: of
        this disk, or at the very place of one of its volumes under the name of another disk, as a
        copy leaves it. What has nothing in common with this disk may be on another one of the PC.
        """
        if device.kind != "partition" or self._environment.disk is None:
            return False
        if self._of_disk(device)[0] is not None:
            return False
        here = device.disk == self.disk_identity()
        return here or any(_is_at(volume, device) for volume in self._in_table())

    def _volumes(self) -> list[Volume]:
        """All but those that are looked into once they are unlocked."""
        inside = self._environment.inside
        return [
            volume
            for volume in self._environment.volumes
            if not volume.extended and inside(volume) is volume
        ]

    def _in_table(self) -> list[Volume]:
        return [volume for volume in self._environment.volumes if not volume.extended]

    def _of_disk(self, device: StoreDevice) -> tuple[Volume | None, str]:
        for volume in self._in_table():
            if _is_at(volume, device) and self.disk_identity() == device.disk:
                return self._environment.inside(volume), ""
        by_guid = device.offset < 0
        at = device.partition if by_guid else f"at byte {device.offset}"
        name = f"{'' if by_guid else 'the '}partition {at}"
        ours = self.disk_identity() or "none"
        return None, f"{name} of disk {device.disk}, which is not on this one ({ours})"

    def disk_identity(self) -> str:
        """How a device names this disk; empty where it has no identity."""
        disk = self._environment.disk
        if disk is None:
            return ""
        believed = disk.gpt.believed if disk.gpt is not None else None
        if believed is not None and believed.header is not None:
            return str(uuid.UUID(bytes_le=believed.header.disk_guid))
        reading = disk.mbr
        return f"{reading.record.fields.disk_signature:08x}" if reading is not None else ""


class StorePlace(msgspec.Struct, frozen=True):
    """Where a boot configuration is, or would be looked for."""

    volume: Volume
    path: str


def store_places(environment: BootEnvironment) -> list[StorePlace]:
    """The boot configurations that are there: beside what boot code loads on the active volume, and
    two folders down on an ESP.

    Raises:
        OutOfReachError: files of a volume cannot be read.
    """
    names, found = nt_names().store, list[StorePlace]()
    for volume in environment.volumes:
        if volume.active and not volume.extended and volume.kind.is_readable:
            file = environment.find(volume, names.beside_code)
            found += [StorePlace(volume, file.path)] if file is not None else []
        if volume.efi or volume.kind.is_fat:
            paths = stores_on(environment, volume)
            found += [StorePlace(volume, path) for path in paths]
    return found


def carried_store(data: bytes) -> str:
    """The path of the boot configuration that a manager for UEFI carries in itself, from the top of
    the ESP; empty where it carries none.

    Args:
        data: the manager's file.
    """
    ending = f"/{nt_names().store.beside_loader}"
    for match in _WIDE.finditer(data):
        text = match.group().decode("utf-16-le").replace("\\", "/")
        if text.lower().startswith("/efi/") and text.lower().endswith(ending):
            return text
    return ""


def stores_on(environment: BootEnvironment, volume: Volume) -> list[str]:
    """Files named like a store, two folders down below the top one of an ESP.

    Raises:
        OutOfReachError
    """
    name, top = nt_names().store.beside_loader, environment.find(volume, "EFI")
    files = environment.files(volume)
    makers = files.listing(top.path) if top is not None and top.is_folder else []
    folders = [maker.path for maker in makers if maker.is_folder]
    folders += [
        below.path for path in folders[:16] for below in files.listing(path) if below.is_folder
    ]
    found = [file for path in folders[:64] if (file := files.find(f"{path}/{name}"))]
    return [file.path for file in found if not file.is_folder]


def _is_at(volume: Volume, device: StoreDevice) -> bool:
    """Whether a device names the partition of a volume, whatever the disk."""
    if device.offset < 0:
        return volume.partuuid.lower() == device.partition
    return volume.offset == device.offset


_UNREAD = FindingId.BOOT_MANAGER_NOT_CHECKED
_MOST_INHERITED = 16


class Entry(msgspec.Struct, frozen=True):
    """The entry that is started.

    Attributes:
        path, root: of the loader and of the system, as paths of a volume.
        kernel, hardware_layer: names of files that stand in for the usual ones.
        recovery: objects that are started when this entry cannot be.
        numbers: elements that are numbers or switches.
    """

    title: str
    kind: int
    path: str
    device: StoreDevice
    root: str
    system_device: StoreDevice
    kernel: str
    hardware_layer: str
    recovery: tuple[str, ...]
    numbers: dict[int, int]


def behind_code(environment: BootEnvironment, volume: Volume, first_file: str) -> Link:
    """The check of the store of a manager that a volume's boot code loads.

    Args:
        first_file: the name of what the boot code loads, which need not be such a manager.
    """
    names = nt_names().store
    if first_file.strip("/").lower() in names.managers:
        return StoreChecks(environment, volume, names.beside_code).store
    return lambda: _unread_manager(environment)


def _unread_manager(environment: BootEnvironment) -> CheckResult:
    says = "What the boot manager's own file does next is not read."
    state, then = PhaseState.NOT_CHECKED, system_start(environment)
    return CheckResult(phase=Phase.BOOT_MANAGER, state=state, says=says, then=then)


def behind_loader(environment: BootEnvironment, volume: Volume, loader: str, data: bytes) -> Link:
    """The check behind a loader file on an ESP that is no manager known otherwise: of the store
    beside it, or of the only one on the volume. Where there is none, the loader counts as a manager
    of this family if it carries the name of a store.

    Args:
        data: the loader file.
    """
    name = nt_names().store.beside_loader
    beside = f"{loader.rpartition('/')[0]}/{name}"
    stores, carried = stores_on(environment, volume), carried_store(data)
    if stores or carried or name.upper().encode("utf-16-le") in data.upper():
        there = {path.upper(): path for path in stores}
        wanted = [each.upper() for each in (carried, beside)]
        known = next((there[each] for each in wanted if each in there), "")
        alone = stores[0] if len(stores) == 1 else ""
        if known or alone or not stores:
            return StoreChecks(environment, volume, known or alone or carried or beside).store
    return lambda: _unread_loader(environment, loader)


def _unread_loader(environment: BootEnvironment, loader: str) -> CheckResult:
    says = f"What the loader file {loader} does next is not read: it is none that we know."
    note = nt_finding(_UNREAD, Severity.NOTE, says, Where(path=loader))
    return not_checked(note, system_start(environment))


class StoreChecks:
    """The checks of one store. `store` is the first."""

    def __init__(self, environment: BootEnvironment, volume: Volume, path: str) -> None:
        self._environment, self._volume, self._path = environment, volume, path
        self._then = system_start(environment)

    @not_followed(_UNREAD, "The boot configuration", then=lambda checks: checks._then)
    def store(self) -> CheckResult:
        """Is it there and whole, and does it name an entry?"""
        found = self._environment.find(self._volume, self._path)
        if found is None:
            says = (
                f"The boot configuration {self._path} is not on volume {self._volume.number}, from"
                " which the boot manager is loaded."
            )
            return self._failed(FindingId.BOOT_STORE_MISSING, says)
        self._path = found.path
        try:
            hive, after, why = replayed_hive(self._environment, self._volume, self._path)
            if hive is None:
                says, without = self._says(f"is damaged: {why}"), lost_bins(after.data)
                return self._failed(FindingId.BOOT_STORE_DAMAGED, says, without=without)
            entry = self._entry(hive)
        except (DamagedHiveError, InputError) as error:
            says = self._says(f"is damaged: {error.says.rstrip('.')}")
            without = RepairId.HIVE_HEADER  # its base block could be used
            return self._failed(FindingId.BOOT_STORE_DAMAGED, says, without=without)
        if entry is None:
            says = self._says("names no entry to start that is in it")
            return self._failed(FindingId.BOOT_STORE_NO_ENTRY, says)
        notes = [] if after.is_whole else [self._unfinished()]
        notes += [*self._settings(entry), *self._recovery(hive, entry)]
        return self._placed(entry, notes)

    def _placed(self, entry: Entry, notes: Sequence[Finding]) -> CheckResult:
        """On which volume the entry's loader and system are."""
        if entry.kind != store.SYSTEM_LOADER or not entry.path:
            says = self._says(f"starts {entry.title!r}, which is not a system of this family")
            return not_checked(nt_finding(_UNREAD, Severity.NOTE, says, self._where()), self._then)
        volumes = StoreVolumes(self._environment, self._volume)
        home, why = volumes.find(entry.device, entry.path)
        system, why_not = volumes.find(entry.system_device, f"{entry.root}/system32")
        if home is None or system is None:
            reason = why or why_not
            if volumes.is_lost(entry.device) or volumes.is_lost(entry.system_device):
                says = self._says(f"starts {entry.title!r} from {reason}")
                return self._failed(FindingId.BOOT_STORE_VOLUME_GONE, says, notes)
            says = self._says(f"starts {entry.title!r} from {reason}, so no further is read")
            note = nt_finding(_UNREAD, Severity.NOTE, says, self._where())
            return not_checked(note, self._then).with_findings(*notes)
        says = self._says(f"starts {entry.title!r} by {entry.path} on volume {home.number}")
        start = NtStart(self._environment, system, entry.root, entry.kernel, entry.hardware_layer)
        then = LoaderChecks(start, home, entry.path).loader
        return passed(Phase.BOOT_MANAGER, says, self._where(), then, tuple(notes))

    def _entry(self, hive: Hive) -> Entry | None:
        """The entry that the manager starts: one for this start only where it is there, else its
        default; the first that it shows where it has none.
        """
        manager = _elements(hive, store.BOOT_MANAGER)
        if manager is None:
            return None
        once = [name for name in _texts(manager, store.ONCE) if _object(hive, name) is not None]
        usual = _texts(manager, store.DEFAULT) or _texts(manager, store.DISPLAY_ORDER)
        identity = next(iter((*once, *usual)), "")
        key = _object(hive, identity) if identity else None
        return _entry(hive, identity, key) if key is not None else None

    def _settings(self, entry: Entry) -> Iterator[Finding]:
        for setting in nt_names().settings:
            value = entry.numbers.get(setting.element)
            if value in setting.values if setting.values else value:
                says = self._says(f"{setting.says}: {entry.title!r}, element {setting.element:08x}")
                kind = FindingId.START_SETTING_LEFT
                yield nt_finding(kind, Severity.WARNING, says, self._where())

    def _recovery(self, hive: Hive, entry: Entry) -> Iterator[Finding]:
        """Whether the recovery that the entry names can be opened from the start."""
        there = [name for name in entry.recovery if _object(hive, name) is not None]
        why = ""
        if entry.numbers.get(store.RECOVERY_ENABLED) == 0:
            why = "is switched off"
        elif entry.recovery and not there:
            why = "is an entry that is not there"
        if why:
            says = self._says(f"names a recovery for {entry.title!r} that {why}")
            unavailable = FindingId.RECOVERY_UNAVAILABLE
            yield nt_finding(unavailable, Severity.NOTE, says, self._where())

    def _unfinished(self) -> Finding:
        says = self._says("was not written to its end, and no log beside it finishes that")
        kind, phase = FindingId.HIVE_UNFINISHED, Phase.BOOT_MANAGER
        return nt_finding(kind, Severity.WARNING, says, self._where(), phase=phase)

    def _failed(
        self,
        kind: FindingId,
        says: str,
        notes: Sequence[Finding] = (),
        without: RepairId | None = None,
    ) -> CheckResult:
        fault = nt_finding(kind, Severity.FATAL, says, self._where(), without=without)
        return failed(fault, self._then).with_findings(*notes)

    def _says(self, what: str) -> str:
        return f"The boot configuration {self._path} {what}."

    def _where(self) -> Where:
        return Where(path=self._path)


def _entry(hive: Hive, identity: str, key: Key) -> Entry:
    description = key.child("Description")
    kind = description.number("Type") if description is not None else None
    raw = _with_inherited(hive, identity)
    path, root = (
        _text(raw.get(element)).replace("\\", "/") for element in (store.PATH, store.SYSTEM_ROOT)
    )
    device = store.device(raw.get(store.DEVICE, b""))
    return Entry(
        title=_text(raw.get(store.DESCRIPTION)) or identity,
        kind=kind or 0,
        path=path,
        device=device,
        root=root,
        system_device=store.device(raw[store.SYSTEM_DEVICE])
        if store.SYSTEM_DEVICE in raw
        else device,
        kernel=_text(raw.get(store.KERNEL)),
        hardware_layer=_text(raw.get(store.HARDWARE_LAYER)),
        recovery=store.texts(raw.get(store.RECOVERY_SEQUENCE, b"")),
        numbers={
            element: store.number(value)
            for element, value in raw.items()
            if store.format_of(element) in {5, 6}
        },
    )


def _with_inherited(hive: Hive, identity: str) -> dict[int, bytes]:
    """The elements of an object and, where it lacks them, of those that it inherits from."""
    found: dict[int, bytes] = {}
    waiting, seen = [identity], set[str]()
    while waiting and len(seen) < _MOST_INHERITED:
        name = waiting.pop(0)
        elements = _elements(hive, name)
        if name.lower() in seen or elements is None:
            continue
        seen.add(name.lower())
        waiting += _texts(elements, store.INHERITS)
        for element in elements.children():
            try:
                found.setdefault(int(element.name, 16), element.data("Element") or b"")
            except ValueError:
                continue  # a key that is no element
    return found


def _object(hive: Hive, identity: str) -> Key | None:
    return hive.find(f"Objects\\{identity}")


def _elements(hive: Hive, identity: str) -> Key | None:
    return hive.find(f"Objects\\{identity}\\Elements")


def _texts(elements: Key, number: int) -> tuple[str, ...]:
    """The objects that an element names, one or several."""
    key = elements.child(f"{number:08x}")
    if key is None:
        return ()
    one = key.text("Element")
    return (one,) if one else key.texts("Element") or ()


def _text(raw: bytes | None) -> str:
    return (raw or b"").decode("utf-16-le", "replace").partition("\0")[0]
