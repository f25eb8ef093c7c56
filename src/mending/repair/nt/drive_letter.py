"""The repair `drive-letter`: the letter by which the system names its own folder led back to its
volume; what had it is given the letter that the volume had meanwhile.
"""

from mending.boot.nt import current_version, letter_of, letter_place, own_names
from mending.disk.hives import Hive
from mending.model import FindingId, RefusedError, RepairId
from mending.repair.base import Proposal, Request
from mending.repair.files import (
    PROGRAMS_HIVE,
    hive_changes,
    nt_home,
    nt_settings,
    open_system_hive,
)

REPAIR = RepairId.DRIVE_LETTER
_BINARY = 3


def propose(request: Request) -> Proposal:
    """Changes of the letters that the settings keep.

    Raises:
        RefusedError: the letter is right, or what it should be cannot be told.
    """
    start = nt_home(request)
    settings = nt_settings(start)
    programs = open_system_hive(request, start, PROGRAMS_HIVE)
    letter = letter_of(current_version(Hive(programs.after.data)))
    where, name = letter_place(letter)
    devices, ours = settings.hive.root.child(where), list(own_names(settings))
    if not letter or devices is None or not ours:
        raise RefusedError("Which letter the system's volume should have cannot be told.")
    bound = devices.data(name)
    if bound in ours:
        raise RefusedError(f"The letter {letter}: belongs to the system's volume.")
    file = open_system_hive(request, start)
    editor, told = file.editor(), ""
    for value in list(devices.values()):
        is_letter = value.name.upper().startswith("\\DOSDEVICES\\")
        if is_letter and devices.data(value.name) in ours and bound is not None:
            editor.set_value(where, value.name, _BINARY, bound)
            told = f"; what had it gets {value.name[-2]}:"
    editor.set_value(where, name, _BINARY, ours[0])
    return Proposal(
        repair=REPAIR,
        says=f"Leads the letter {letter}: back to volume {start.volume.number}{told}.",
        changes=tuple(hive_changes(request, file, editor, f"letters in {file.path}")),
        answers=request.found(FindingId.DRIVE_LETTER_MOVED),
        fault_after=lambda _trace: "",
    )
