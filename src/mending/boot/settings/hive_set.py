"""The hives of one moment: those of the system and of its programs, with what their logs hold."""

from collections.abc import Callable

import msgspec

from mending.disk.files import Files, FilesUnavailableError
from mending.disk.hives import Hive, Key, replayed
from mending.disk.system import systems_on
from mending.formats.nt.hive_cells import DamagedHiveError
from mending.model import InputError
from mending.model.limits import HIVE_BYTES

_SYSTEM, _PROGRAMS = "system", "software"
_HOME = "system32/config"
_LOGS = (".log", ".log1", ".log2")
_LEAST = 512


class HiveSet(msgspec.Struct, frozen=True, kw_only=True):
    """Hives of one moment; None for one that is not there or cannot be read, which is noted.

    Attributes:
        home: the folder of the system's hives; empty for a file of its own.
        written: when the system's hive was written last, 100 ns since 1601; 0 where not known.
    """

    home: str
    system: Hive | None
    programs: Hive | None
    written: int
    notes: tuple[str, ...]


def hive_set_of(files: Files) -> HiveSet | None:
    """The hives of the system on a volume, or of a folder that holds hives themselves; None where
    there is neither.

    Raises:
        FilesUnavailableError: damage hides them.
    """
    systems = systems_on(files, 0).systems
    home = next((f"{each.title}/{_HOME}" for each in systems if each.family == "nt"), "")
    if not home and not any(files.find(name) for name in (_SYSTEM, _PROGRAMS)):
        return None

    def read(name: str) -> bytes:
        found = files.find(f"{home}/{name}")
        if found is None or found.is_folder or found.bytes > HIVE_BYTES:
            return b""
        return files.read(found, HIVE_BYTES)

    return _set_of(home, read)


def one_hive(name: str, data: bytes) -> HiveSet:
    """A hive in a file of its own; which one it is tells what is in it.

    Raises:
        InputError: it cannot be used.
    """
    hive, why = _usable(data, [])
    if hive is None:
        raise InputError(f"{name} is no hive that can be read: {why}.")
    is_system = (
        hive.root.child("Select") is not None or hive.root.child("ControlSet001") is not None
    )
    return HiveSet(
        home="",
        system=hive if is_system else None,
        programs=None if is_system else hive,
        written=hive.base.written,
        notes=(),
    )


def _set_of(home: str, read: Callable[[str], bytes]) -> HiveSet:
    found: dict[str, Hive | None] = {}
    notes = []
    for name in (_SYSTEM, _PROGRAMS):
        try:
            data = read(name)
            logs = [read(f"{name}{ending}") for ending in _LOGS]
        except FilesUnavailableError as error:
            found[name] = None
            notes.append(f"The hive {name} was not read: {error.says}")
            continue
        found[name], why = _usable(data, logs) if data else (None, "it is not there or empty")
        if found[name] is None:
            notes.append(f"The hive {name} was not compared: {why}.")
    system = found[_SYSTEM]
    return HiveSet(
        home=home,
        system=system,
        programs=found[_PROGRAMS],
        written=system.base.written if system is not None else 0,
        notes=tuple(notes),
    )


def _usable(data: bytes, logs: list[bytes]) -> tuple[Hive | None, str]:
    """A hive with its logs replayed, or why there is none."""
    if len(data) < _LEAST:
        return None, f"it has only {len(data)} bytes"
    try:
        hive = Hive(replayed(data, logs).data)
        key: Key = hive.root
        next(iter(key.children()), None)
    except DamagedHiveError as error:
        return None, error.says.rstrip(".")
    except InputError as error:
        return None, error.says.rstrip(".")
    return hive, ""
