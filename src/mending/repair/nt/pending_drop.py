"""The repair `pending-drop`: a half-done update, a queue of renames or an unfinished set-up set
aside, complete, so that it can be put back. Nothing of it is deleted: files keep their bytes under
a free name beside, values theirs in the same key.
"""

from mending.boot.nt import NtStart
from mending.disk.hives import HiveEditor, Key
from mending.model import Change, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import (
    HiveFile,
    hive_changes,
    nt_home,
    nt_settings,
    open_system_hive,
    put_aside,
)

REPAIR = RepairId.PENDING_DROP
_HALF_DONE = "winsxs/pending.xml"
_SESSION = "Control\\Session Manager"
_QUEUES = ("PendingFileRenameOperations", "PendingFileRenameOperations2", "SetupExecute")
_SETUP = ("SystemSetupInProgress", "SetupType", "CmdLine")
_ASIDE = "aside"
_NUMBER = 4


def propose(request: Request) -> Proposal:
    """Changes that set it aside.

    Raises:
        RefusedError: nothing is half done, or a guard says no.
    """
    start = nt_home(request)
    settings, file = nt_settings(start), open_system_hive(request, start)
    editor, told = file.editor(), list[str]()
    session = f"{settings.control_set.name}\\{_SESSION}"
    told += _queues(editor, settings.hive.find(session), session)
    told += _set_up(editor, settings.hive.find("Setup"))
    changes = [*_half_done(request, start, told), *_in_hive(request, file, editor)]
    if not changes:
        raise RefusedError("No update, set-up or rename waits here.", "Nothing is written.")
    return Proposal(
        repair=REPAIR,
        says=f"Sets aside {', '.join(told)}.",
        changes=tuple(changes),
        answers=(),
        fault_after=lambda _trace: "",
    )


def _in_hive(request: Request, file: HiveFile, editor: HiveEditor) -> list[Change]:
    if not editor.touched:
        return []
    return hive_changes(request, file, editor, f"what waits in {file.path}")


def _queues(editor: HiveEditor, key: Key | None, path: str) -> list[str]:
    told = []
    for name in _QUEUES if key is not None else ():
        value = key.value(name) if key is not None else None
        data = key.data(name) if key is not None else None
        if value is None or data is None or not (key.texts(name) if key is not None else None):
            continue
        editor.set_value(path, _free(key, value.name), value.type, data)
        editor.remove_value(path, value.name)
        told.append(value.name)
    return told


def _set_up(editor: HiveEditor, key: Key | None) -> list[str]:
    if key is None or not (key.number("SystemSetupInProgress") or key.number("SetupType")):
        return []
    for name in _SETUP:
        value, data = key.value(name), key.data(name)
        if value is None or data is None:
            continue
        editor.set_value("Setup", _free(key, value.name), value.type, data)
        nothing = bytes(4) if value.type == _NUMBER else bytes(2)
        editor.set_value("Setup", value.name, value.type, nothing)
    return ["an unfinished set-up"]


def _free(key: Key | None, name: str) -> str:
    """A name beside that no value has."""
    number, found = 1, f"{name}.{_ASIDE}"
    while key is not None and key.value(found) is not None:
        number += 1
        found = f"{name}.{_ASIDE}{number}"
    return found


def _half_done(request: Request, start: NtStart, told: list[str]) -> list[Change]:
    found = request.environment.find(start.volume, start.path(_HALF_DONE))
    if found is None:
        return []
    told.append(found.path)
    return put_aside(request, start.volume, [found.path], _ASIDE)
