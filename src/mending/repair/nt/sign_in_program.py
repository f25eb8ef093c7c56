"""The repair `sign-in-program`: the programs that the settings name for a sign-in set to the
system's own, where they were replaced or lost.
"""

from mending.boot.nt import current_version, read_program
from mending.disk.hives import Hive, Key
from mending.knowledge.families import nt_names
from mending.model import FindingId, RefusedError, RepairId, capital
from mending.repair.base import Proposal, Request
from mending.repair.files import PROGRAMS_HIVE, hive_changes, nt_home, open_system_hive

REPAIR = RepairId.SIGN_IN_PROGRAM
_TEXT = 1
_KINDS = (FindingId.SIGN_IN_PROGRAM_MISSING, FindingId.SIGN_IN_PROGRAM_ADDED)


def propose(request: Request) -> Proposal:
    """Changes of what the settings name.

    Raises:
        RefusedError: they name the system's own, or those are not there to be named.
    """
    start, names = nt_home(request), nt_names().sign_in
    file = open_system_hive(request, start, PROGRAMS_HIVE)
    hive = Hive(file.after.data)
    current = current_version(hive)
    key = current.child(names.key) if current is not None else None
    if current is None or key is None:
        raise RefusedError("The settings of a sign-in cannot be found.", "hive-set is left.")
    folder = (current.text("SystemRoot") or "").rstrip("\\")
    wanted = {
        names.programs: (f"{folder}\\{names.own_programs}".replace("/", "\\"), names.own_programs),
        names.shell: (names.own_shell, names.own_shell),
    }
    editor, path, told = file.editor(), _path(hive, key), []
    for value, (line, program) in wanted.items():
        written = key.text(value) or ""
        if _first(written).casefold() == line.casefold() and not _more(written):
            continue
        found = read_program(start, start.path(program))
        if found is None or found.why:
            raise RefusedError(
                f"{start.path(program)}, the system's own, is missing or damaged.",
                "Restore it first: file-restore.",
            )
        end = "," if value == names.programs else ""
        editor.set_value(path, _name(key, value), _TEXT, f"{line}{end}\0".encode("utf-16-le"))
        told.append(f"{value} names {line} instead of {written or 'nothing'}")
    if not told:
        raise RefusedError("A sign-in runs the system's own programs.", "Nothing is written.")
    return Proposal(
        repair=REPAIR,
        says=f"{capital('; '.join(told))}.",
        changes=tuple(hive_changes(request, file, editor, f"sign-in in {file.path}")),
        answers=request.found(*_KINDS),
        fault_after=lambda _trace: "",
    )


def _first(written: str) -> str:
    return written.partition(",")[0].strip()


def _more(written: str) -> bool:
    return any(part.strip() for part in written.split(",")[1:])


def _name(key: Key, name: str) -> str:
    """The name of a value as it is written there."""
    value = key.value(name)
    return value.name if value is not None else name.capitalize()


def _path(hive: Hive, key: Key) -> str:
    """The path of a key two levels below a maker."""
    for maker in hive.root.children():
        for system in maker.children():
            current = system.child(nt_names().sign_in.current)
            inner = current.child(nt_names().sign_in.key) if current is not None else None
            if current is not None and inner is not None and inner.at == key.at:
                return f"{maker.name}\\{system.name}\\{current.name}\\{inner.name}"
    raise RefusedError("The settings of a sign-in cannot be found.")
