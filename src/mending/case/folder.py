"""A case on the medium: `case.json`, `record.jsonl`, `evidence/`, `undo/`. Format:
`docs/formats.md`.

The record only grows: events that happened together are one line with a sum, written and flushed
under a lock, so that after a crash all of them are there or none. The last line may be torn by a
power cut; it is passed over and that is said, and any other line that does not fit its sum is an
error, for then somebody else changed the file. A case may come from anywhere: names in it are plain
and nothing in it may be a link.
"""

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mending.case.events import Added, AnyEvent, Record, Reopened, decode_record, encode_lines
from mending.case.lock import held
from mending.case.state import CaseState, fold
from mending.model import Hand, InputError, RefusedError
from mending.model.limits import RECORD_BYTES, WINDOW_BYTES
from mending.source import (
    append_durably,
    make_folder,
    make_folder_durably,
    read_file,
    read_folder,
    write_durably,
)

if TYPE_CHECKING:
    from mending.crash.read import LogFile

CASE_FILE = "case.json"
RECORD_FILE = "record.jsonl"
_SUM_LETTERS = 12
"""With so many letters of its sum the name of a copy begins."""


class CaseFile(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="case-file/1"):
    """What never changes about a case: its name and when it was opened."""

    name: str
    opened: str


class Case(msgspec.Struct, frozen=True):
    """A case as it was read: the folder, what never changes, what happened, and the state after it;
    `torn` where a crash left something behind the last event.
    """

    folder: Path
    file: CaseFile
    state: CaseState
    torn: bool = False
    events: tuple[AnyEvent, ...] = ()

    def refuse_closed(self) -> None:
        """Raise RefusedError where nothing more may be done in it."""
        if self.state.closed is not None:
            raise RefusedError(
                f"{self.folder} is closed.", f"Go on with it: mending close {self.folder} --reopen"
            )

    @property
    def undo_folder(self) -> Path:
        """Where the undo points of this case lie."""
        return self.folder / "undo"

    @property
    def firmware_dump(self) -> Path | None:
        """The newest dump of firmware variables among the evidence; None without one."""
        found = [item for item in self.state.evidence if item.sort == "variables"]
        return self.place_of(found[-1]) if found else None

    def place_of(self, item: Added) -> Path:
        """Where a piece of evidence lies.

        Raises:
            InputError: a copy that leads out of the case: a case may come from anywhere.
        """
        if not item.copy:
            return Path(item.path)
        place = self.folder / "evidence" / item.copy
        if item.copy != place.name or item.copy in {".", ".."}:
            raise InputError(f"The case {self.folder} names evidence outside of it: {item.copy!r}.")
        _refuse_link(place)
        return place


def crash_files(case: Case) -> "list[LogFile]":
    """The evidence of a case that may tell of crashes: every file but disks, and what was added
    several times only once, whatever it was called.
    """
    from mending.crash.read import log_file  # noqa: PLC0415 - lazy: most commands read no records

    unlike = {
        item.copy[:_SUM_LETTERS] if item.copy else item.path: item
        for item in reversed(case.state.evidence)
    }
    kept = [item for item in reversed(unlike.values()) if item.sort != "disk"]
    places = [(item, case.place_of(item)) for item in kept]
    return [log_file(item.copy or item.path, place) for item, place in places if not place.is_dir()]


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
    make_folder(folder.parent)
    file = CaseFile(name=folder.name, opened=at)
    record = encode_lines(events) if events else b""
    make_folder_durably(folder, {CASE_FILE: msgspec.json.encode(file) + b"\n", RECORD_FILE: record})
    return load_case(folder)


def load_case(folder: Path) -> Case:
    """Read a case.

    Raises:
        InputError: it is none, or damaged.
    """
    if not is_case(folder):
        raise InputError(f"{folder} is no case.", f"Start one with: mending open {folder}")
    for name in (CASE_FILE, RECORD_FILE, "evidence", "undo"):
        _refuse_link(folder / name)
    try:
        file = msgspec.json.decode(read_file(folder / CASE_FILE, WINDOW_BYTES), type=CaseFile)
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(
            f"{folder / CASE_FILE} is damaged: {error}.", "Take the folder's last backup."
        ) from error
    found = _record(folder)
    return Case(folder, file, fold(found.events), found.torn, found.events)


def list_cases(folder: Path) -> list[Case]:
    """The cases that lie directly in a folder, by name.

    Raises:
        InputError
    """
    return [load_case(path) for path in read_folder(folder) if path.is_dir() and is_case(path)]


def record(case: Case, hand: Hand, *events: AnyEvent) -> Case:
    """Add events to the record and read the case again; all or none of them are there after a
    crash.

    Raises:
        RefusedError: another program holds the case, or it is closed.
        InputError: it cannot be written, or was damaged meanwhile.
    """
    if not any(isinstance(each, Reopened) for each in events):
        case.refuse_closed()
    with held(case.folder, hand):
        path = case.folder / RECORD_FILE
        data = _record_bytes(case.folder)
        found = decode_record(data, str(path))
        if found.torn:
            write_durably(path, data[: found.whole])
        if events:
            append_durably(path, encode_lines(events))
    return load_case(case.folder)


def _record(folder: Path) -> Record:
    return decode_record(_record_bytes(folder), str(folder / RECORD_FILE))


def _record_bytes(folder: Path) -> bytes:
    """The whole record: of one that is not read to its end the next writer would cut events off."""
    data = read_file(folder / RECORD_FILE, RECORD_BYTES + 1)
    if len(data) > RECORD_BYTES:
        raise InputError(f"{folder / RECORD_FILE} is larger than any record that is read.")
    return data


def _refuse_link(place: Path) -> None:
    """A case may come from anywhere; nothing in it leads out of it."""
    if place.is_symlink():
        raise InputError(f"{place} is a link, and nothing inside a case may be one.")
