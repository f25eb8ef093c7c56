"""The repair `start-setting`: what decides the next start, set by what is needed and taken out
again.

Some of it is kept in the boot configuration, some in the system's settings. Without a wish, what
was left behind of earlier ones is taken out.
"""

from collections.abc import Callable, Mapping

from mending.boot.nt import NtStart
from mending.disk.hives import Hive, HiveEditor
from mending.formats.nt import boot_store as store
from mending.knowledge.families import nt_names
from mending.model import Change, FindingId, RefusedError, RepairId, UsageError
from mending.repair.base import Proposal, Request
from mending.repair.files import (
    ELEMENT,
    default_entry,
    element_path,
    hive_changes,
    nt_home,
    nt_settings,
    open_store,
    open_system_hive,
    set_element,
)

REPAIR = RepairId.START_SETTING
USUAL = "usual"
_NUMBER = 4
_FEWEST, _RECORD = 0x2500_0080, 0x2600_0090
_CRASHES, _STAYS = "Control\\CrashControl", "AutoReboot"
_POWER, _HYBRID = "Control\\Session Manager\\Power", "HiberbootEnabled"
_MEMORY = "Control\\Session Manager\\Memory Management"
_CHECKED = ("VerifyDriverLevel", "VerifyDrivers")
_TEMPORARY = (_FEWEST, _RECORD)
_MOST_INHERITED = 16

_Edit = Callable[[HiveEditor, str], None]
"""Takes the control set, or the entry of the boot configuration."""


def _number(path: str, name: str, value: int) -> _Edit:
    def edit(editor: HiveEditor, chosen: str) -> None:
        editor.add_key(f"{chosen}\\{path}")
        raw = value.to_bytes(4, "little")
        editor.set_value(f"{chosen}\\{path}", name, _NUMBER, raw)

    return edit


def _element(element: int, value: bytes) -> _Edit:
    return lambda editor, entry: set_element(editor, entry, element, value)


def _without(*elements: int) -> _Edit:
    def edit(editor: HiveEditor, entry: str) -> None:
        for identity in _with_inherited(editor.hive, entry):
            for element in elements:
                path = element_path(identity, element)
                if editor.hive.find(path) is not None:
                    editor.remove_key(path)

    return edit


IN_STORE: Mapping[str, _Edit] = {
    "fewest-drivers": _element(_FEWEST, bytes(8)),
    "record-loaded": _element(_RECORD, b"\1"),
    USUAL: _without(*_TEMPORARY),
}
IN_HIVE: Mapping[str, _Edit] = {
    "stop-stays": _number(_CRASHES, _STAYS, 0),
    "no-hybrid": _number(_POWER, _HYBRID, 0),
    USUAL: _number(_CRASHES, _STAYS, 1),
}
_SAYS = {
    "fewest-drivers": "The next start loads only the drivers that it must",
    "record-loaded": "The next start keeps a record of what was loaded",
    "stop-stays": "A stop screen stays until somebody turns the PC off",
    "no-hybrid": "Shutting down ends the system for good, and nothing is kept for the next start",
    USUAL: "The next start is a usual one: temporary settings are put back",
}


def propose(request: Request) -> Proposal:
    """Changes of the boot configuration and of the system's settings.

    Raises:
        UsageError: no such wish.
        RefusedError: all is so already, or a guard says no.
    """
    want = request.settings.want
    if want and want not in _SAYS:
        raise UsageError(f"{want!r} cannot be set for a start.", f"Known: {', '.join(_SAYS)}.")
    changes = _wished(request, want) if want else _left_over(request)
    if not changes:
        raise RefusedError("That is so already, or nothing was left behind.", "Nothing is written.")
    answers = request.found(FindingId.START_SETTING_LEFT, FindingId.DRIVER_CHECKING_LEFT_ON)
    says = _SAYS.get(want, "Takes out what was left behind of earlier starts")
    return Proposal(
        repair=REPAIR,
        says=f"{says}.",
        changes=tuple(changes),
        answers=answers if not want else (),
        fault_after=lambda _trace: "",
    )


def _wished(request: Request, want: str) -> list[Change]:
    changes = list[Change]()
    if want in IN_STORE:
        changes += _in_store(request, IN_STORE[want])
    if want in IN_HIVE:
        changes += _in_hive(request, nt_home(request), IN_HIVE[want])
    return changes


def _left_over(request: Request) -> list[Change]:
    changes = list[Change]()
    if request.found(FindingId.START_SETTING_LEFT):
        left = [setting.element for setting in nt_names().settings]
        changes += _in_store(request, _without(*left))
    if request.found(FindingId.DRIVER_CHECKING_LEFT_ON):
        changes += _in_hive(request, nt_home(request), _no_checks)
    return changes


def _no_checks(editor: HiveEditor, chosen: str) -> None:
    for name in _CHECKED:
        key = editor.hive.find(f"{chosen}\\{_MEMORY}")
        if key is not None and key.value(name) is not None:
            editor.remove_value(f"{chosen}\\{_MEMORY}", name)


def _in_store(request: Request, edit: _Edit) -> list[Change]:
    file = open_store(request)
    editor = file.editor()
    entry = default_entry(Hive(file.after.data))
    if not entry:
        raise RefusedError(f"{file.path} names no entry to start.", "Mend it first: boot-entries.")
    edit(editor, entry)
    if not editor.touched:
        return []
    return hive_changes(request, file, editor, f"{ELEMENT.lower()}s of an entry in {file.path}")


def _in_hive(request: Request, start: NtStart, edit: _Edit) -> list[Change]:
    file = open_system_hive(request, start)
    editor = file.editor()
    edit(editor, nt_settings(start).control_set.name)
    if not editor.touched:
        return []
    return hive_changes(request, file, editor, f"settings of a start in {file.path}")


def _with_inherited(hive: Hive, entry: str) -> list[str]:
    """An entry and the objects that it inherits from."""
    found, waiting = list[str](), [entry]
    while waiting and len(found) < _MOST_INHERITED:
        identity = waiting.pop(0)
        if identity.casefold() in map(str.casefold, found):
            continue
        found.append(identity)
        key = hive.find(element_path(identity, store.INHERITS))
        waiting += (key.texts(ELEMENT) or ()) if key is not None else ()
    return found
