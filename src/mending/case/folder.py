"""A case on the medium: `case.json`, `record.jsonl`, `evidence/`, `undo/`. Format:
`docs/formats.md`.
"""

from collections.abc import Sequence
from pathlib import Path

import msgspec

from mending.case.events import AnyEvent, decode_record, encode_line
from mending.case.lock import held
from mending.case.state import CaseState, fold
from mending.crash.read import LogFile, log_file
from mending.model import Hand, InputError, RefusedError
from mending.model.limits import WINDOW_BYTES
from mending.source import (
    append_durably,
    make_folder_durably,
    read_file,
    read_folder,
    write_durably,
)

CASE_FILE = "case.json"
RECORD_FILE = "record.jsonl"


class CaseFile(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="case-file/1"):
    """What never changes about a case: its name and when it was opened."""

    name: str
    opened: str


class Case(msgspec.Struct, frozen=True):
    """A case as it was read: the folder, what never changes, and the state."""

    folder: Path
    file: CaseFile
    state: CaseState

    @property
    def undo_folder(self) -> Path:
        """Where the undo points of this case lie."""
        return self.folder / "undo"

    @property
    def firmware_dump(self) -> Path | None:
        """The newest dump of firmware variables among the evidence; None without one."""
        found = [item for item in self.state.evidence if item.sort == "variables"]
        if not found:
            return None
        return self.folder / "evidence" / found[-1].copy if found[-1].copy else Path(found[-1].path)


def crash_files(case: Case) -> list[LogFile]:
    """The evidence of a case that may tell of crashes: everything but disks and what firmware
    remembers.
    """
    kept = [item for item in case.state.evidence if item.sort not in {"disk", "variables"}]
    return [
        log_file(
            item.copy or item.path,
            case.folder / "evidence" / item.copy if item.copy else Path(item.path),
        )
        for item in kept
    ]


def is_case(folder: Path) -> bool:
    """Whether a folder is a case."""
    return (folder / CASE_FILE).is_file()


def open_case(folder: Path, events: Sequence[AnyEvent], at: str) -> Case:
    """Make a new case, all at once.

    Raises:
        RefusedError: there is a case already.
        InputError: the folder cannot be made.
    """
    if is_case(folder):
        raise RefusedError(f"{folder} is a case already.", "Choose another name, or go on with it.")
    folder.parent.mkdir(parents=True, exist_ok=True)
    file = CaseFile(name=folder.name, opened=at)
    record = b"".join(encode_line(event) for event in events)
    make_folder_durably(folder, {CASE_FILE: msgspec.json.encode(file) + b"\n", RECORD_FILE: record})
    return load_case(folder)


def load_case(folder: Path) -> Case:
    """Read a case. Raises InputError when it is none, or damaged."""
    if not is_case(folder):
        raise InputError(f"{folder} is no case.", f"Start one with: mending open {folder}")
    try:
        file = msgspec.json.decode(read_file(folder / CASE_FILE, WINDOW_BYTES), type=CaseFile)
    except msgspec.DecodeError as error:
        raise InputError(
            f"{folder / CASE_FILE} is damaged: {error}.", "Take the folder's last backup."
        ) from error
    events, _ = decode_record(_record(folder), str(folder / RECORD_FILE))
    return Case(folder, file, fold(events))


def list_cases(folder: Path) -> list[Case]:
    """The cases that lie directly in a folder, by name. Raises InputError."""
    return [load_case(path) for path in read_folder(folder) if path.is_dir() and is_case(path)]


def record(case: Case, hand: Hand, *events: AnyEvent) -> Case:
    """Add events to the record and read the case again; all or none of them are there after a
    crash.

    Raises:
        RefusedError: another program holds the case.
        InputError: it cannot be written, or was damaged meanwhile.
    """
    with held(case.folder, hand):
        path = case.folder / RECORD_FILE
        data = _record(case.folder)
        _, whole = decode_record(data, str(path))
        if whole < len(data):
            write_durably(
                path, data[:whole]
            )  # what a crash left of an event that nobody was told about
        append_durably(path, b"".join(encode_line(event) for event in events))
    return load_case(case.folder)


def _record(folder: Path) -> bytes:
    return read_file(folder / RECORD_FILE, WINDOW_BYTES)
