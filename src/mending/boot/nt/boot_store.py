"""The boot configuration of the nt family: is the store there and whole, which entry does it start,
and are the volume and the loader there that the entry names?

The manager reads the store beside it, starts its default entry (or one that is meant for the next
start only), and gives up with a status screen where any of that is lost. Graded by public
descriptions of the store, and on stores of our own making: no store of a real system was to be had.
"""

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
from mending.boot.nt.replayed_hive import lost_bins, replayed_hive
from mending.boot.nt.start import NtStart, nt_finding
from mending.boot.nt.store_volumes import StoreVolumes, carried_store, stores_on
from mending.disk.hives import Hive, Key
from mending.disk.volume import Volume
from mending.formats.nt import boot_store as store
from mending.formats.nt.boot_store import StoreDevice
from mending.formats.nt.hive_cells import DamagedHiveError
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
