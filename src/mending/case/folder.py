"""A case on the medium: `case.json`, `record.jsonl`, `evidence/`, `undo/`. Format:
`docs/formats.md`.

The record only grows: events that happened together are one line with a sum, written and flushed
under a lock, so that after a crash all of them are there or none. The last line may be torn by a
power cut; it is passed over and that is said, and any other line that does not fit its sum is an
error, for then somebody else changed the file. A case may come from anywhere: names in it are plain
and nothing in it may be a link.
"""

import os
from collections.abc import Callable, Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from mending.boot.chain import Trace
from mending.case.events import (
    CASE_FILE,
    Added,
    AnyEvent,
    Checked,
    Closed,
    HandedOver,
    Heard,
    Home,
    Learned,
    Listed,
    Noted,
    Record,
    Reopened,
    Started,
    Traced,
    Tried,
    decode_record,
    encode_lines,
    home_of,
    refuse_elsewhere,
    was_attached_here,
)
from mending.case.state import CaseState, fold
from mending.disk.scan import DiskMap
from mending.knowledge import Pack
from mending.model import (
    Hand,
    InputError,
    RefusedError,
    UsageError,
    decode_json,
    encode_json,
    quoted,
)
from mending.model.limits import RECORD_BYTES, WINDOW_BYTES
from mending.source import (
    append_durably,
    folder_made_durably,
    known_key,
    make_folder,
    read_file,
    read_folder,
    refuse_strange,
    write_durably,
)

# One writer at a time: the next one waits a little, then is told who holds the case.


LOCK_FILE = "lock"
HOLDER_FILE = "holder.json"
_OWNER_ALONE = 0o600


@contextmanager
def held(folder: Path, hand: Hand) -> Iterator[None]:
    """Hold the case folder.

    Raises:
        RefusedError: somebody else holds it; says who.
        InputError: the folder cannot be written.
    """
    import filelock  # noqa: PLC0415 - lazy: what only reads a case holds nothing

    lock = filelock.FileLock(folder / LOCK_FILE, timeout=hand.patience, mode=_OWNER_ALONE)
    try:
        lock.acquire()
    except filelock.Timeout as error:
        raise RefusedError(
            f"The case {folder} is held by {_holder(folder)}.", "Wait for it to end."
        ) from error
    except OSError as error:
        raise InputError(
            f"The case {folder} cannot be written: {error.strerror or error}."
        ) from error
    try:
        write_durably(folder / HOLDER_FILE, encode_json(hand))
        yield
    finally:
        lock.release()


def _holder(folder: Path) -> str:
    try:
        hand = decode_json(read_file(folder / HOLDER_FILE, 4096, links=False), Hand)
    except (InputError, msgspec.DecodeError):
        return "another program"  # it has the lock but has not yet said its name
    return f"{hand.who} since {hand.since}"


if TYPE_CHECKING:
    from mending.crash.read import LogFile

RECORD_FILE = "record.jsonl"
_LONGEST_NAME = 200
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
                f"{self.folder} is closed.",
                f"Go on with it: mending close {quoted(self.folder)} --reopen",
            )

    @property
    def undo_folder(self) -> Path:
        """Where the undo points of this case lie."""
        return self.folder / "undo"

    def firmware_dump(self, key: Path) -> Path | None:
        """The newest dump of firmware variables among the evidence; None without one. Arguments and
        errors as of `place_of`.
        """
        found = [item for item in self.state.evidence if item.sort == "variables"]
        return self.place_of(found[-1], key) if found else None

    def place_of(self, item: Added, key: Path) -> Path:
        """Where a piece of evidence lies.

        Args:
            key: file with the key of this machine.

        Raises:
            InputError: a copy that leads out of the case: a case may come from anywhere.
            RefusedError: it lies outside, and this machine did not attach it.
        """
        if not item.copy:
            if not was_attached_here(self.folder, item.path, item.outside, known_key(key)):
                raise refuse_elsewhere(self.folder, item.path)
            return Path(item.path)
        place = self.folder / "evidence" / item.copy
        if item.copy != place.name or item.copy in {".", ".."}:
            raise InputError(f"The case {self.folder} names evidence outside of it: {item.copy!r}.")
        refuse_strange(place)
        return place


def crash_files(case: Case, key: Path) -> "list[LogFile]":
    """The evidence of a case that may tell of crashes: every file but disks, and what was added
    several times only once, whatever it was called. Arguments and errors as of `Case.place_of`.
    """
    from mending.crash.read import log_file  # noqa: PLC0415 - lazy: most commands read no records

    unlike = dict[str, Added]()
    for item in case.state.evidence:
        name = item.copy[:_SUM_LETTERS] if item.copy else item.path
        if name not in unlike or not item.copy:  # what lies outside counts as attached last
            unlike[name] = item
    kept = [item for item in unlike.values() if item.sort not in {"disk", "further-disk"}]
    places = [(item, case.place_of(item, key)) for item in kept]
    return [log_file(item.copy or item.path, place) for item, place in places if not place.is_dir()]


def is_case(folder: Path) -> bool:
    """Whether a folder is a case."""
    return (folder / CASE_FILE).is_file()


def open_case(folder: Path, make_events: Callable[[Home], Sequence[AnyEvent]], at: str) -> Case:
    """Make a new case, all at once: a program that is killed leaves no half of one.

    Args:
        make_events: is given by what the case is known, and makes its first events.

    Raises:
        UsageError: that is no name of a folder.
        RefusedError: there is a case already.
        InputError: the folder cannot be made.
    """
    check_new_name(folder)
    make_folder(folder.parent)
    file = CaseFile(name=folder.name, opened=at)
    with folder_made_durably(folder) as new:
        write_durably(new / CASE_FILE, encode_json(file) + b"\n")
        events = make_events(msgspec.structs.replace(home_of(new), path=str(folder.resolve())))
        write_durably(new / RECORD_FILE, encode_lines(events) if events else b"")
    return load_case(folder)


def check_new_name(folder: Path) -> None:
    """Raise RefusedError where there is a case already, UsageError for what is no name of a new
    folder.
    """
    name = folder.name
    if not name or name in {".", ".."}:
        raise UsageError("A case needs a name of its own.", "For example: mending open quay-desk")
    if len(os.fsencode(name)) > _LONGEST_NAME:
        raise UsageError(f"The name of a case may have {_LONGEST_NAME} bytes; this one has more.")
    if is_case(folder):
        raise RefusedError(f"{folder} is a case already.", "Choose another name, or go on with it.")
    if folder.exists() or folder.is_symlink():
        raise RefusedError(f"{folder} is there already and is no case.", "Choose another name.")


def load_case(folder: Path) -> Case:
    """Read a case.

    Raises:
        InputError: it is none, or damaged.
    """
    if not is_case(folder):
        raise InputError(f"{folder} is no case.", f"Start one with: mending open {quoted(folder)}")
    for name in (CASE_FILE, RECORD_FILE, "evidence", "undo", LOCK_FILE, HOLDER_FILE):
        refuse_strange(folder / name)
    try:
        file = decode_json(read_file(folder / CASE_FILE, WINDOW_BYTES, links=False), CaseFile)
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
    data = read_file(folder / RECORD_FILE, RECORD_BYTES + 1, links=False)
    if len(data) > RECORD_BYTES:
        raise InputError(f"{folder / RECORD_FILE} is larger than any record that is read.")
    return data


# A case without what is private, field by field: what a workshop keeps of a person, what somebody
# said or wrote in words of their own, names of files, volumes, machines and of the case itself.
#
# Which fields those are stands here, once. Ids, answers, codes, times and numbers stay.


GONE = "[taken out]"


def without_private(case: Case, pack: Pack, allowed: frozenset[str]) -> Case:
    """The case with its private fields taken out.

    Args:
        allowed: words that stay where a person may also write their own: ids and fixed answers.
    """
    known = allowed | set(pack.causes) | set(pack.steps)
    events = tuple(_public(event, known) for event in case.events)
    file = msgspec.structs.replace(case.file, name=GONE)
    return msgspec.structs.replace(
        case, file=file, folder=case.folder.with_name(GONE), events=events, state=fold(events)
    )


def trace_without_private(trace: Trace) -> Trace:
    """A trace without names that people gave: of the target, of volumes, of a system's machine."""
    return msgspec.structs.replace(
        trace,
        target=msgspec.structs.replace(trace.target, path=GONE),
        volumes=tuple(
            msgspec.structs.replace(
                volume, label=_taken(volume.label), contained=tuple(map(_taken, volume.contained))
            )
            for volume in trace.volumes
        ),
        map=None if trace.map is None else _map_without_labels(trace.map),
        systems=tuple(
            msgspec.structs.replace(system, title=_taken(system.title))
            if system.family == "linux"
            else system
            for system in trace.systems
        ),
    )


def _map_without_labels(drawn: DiskMap) -> DiskMap:
    stretches = tuple(
        msgspec.structs.replace(stretch, label=_taken(stretch.label)) for stretch in drawn.stretches
    )
    return msgspec.structs.replace(drawn, stretches=stretches)


def _public(event: AnyEvent, known: frozenset[str] | set[str]) -> AnyEvent:
    """An event with its private fields taken out."""
    change: Mapping[str, object]
    match event:
        case Learned():
            change = {"notes": _values(event.notes), "shop": _values(event.shop)}
        case Heard():
            change = {"text": _taken(event.text), "left": tuple(map(_taken, event.left))}
        case Added():
            change = {"path": _taken(event.path), "outside": None}
        case Traced():
            change = {"trace": trace_without_private(event.trace)}
        case Tried() | Started():
            change = {"note": _taken(event.note)}
        case Listed():
            change = {"lines": (), "chosen": {}}  # labels are names that people gave
        case Noted():
            change = {"text": _taken(event.text)}
        case Checked():
            change = {"says": _own(event.says, known)}
        case HandedOver():
            change = {"to": _taken(event.to), "cause": _own(event.cause, known)}
        case Closed():
            own: Callable[[str], str] = lambda words: _own(words, known)  # noqa: E731
            put_back = {name: own(words) for name, words in event.put_back.items()}
            change = {"cause": own(event.cause), "fix": own(event.fix), "put_back": put_back}
        case _:
            return event
    return msgspec.structs.replace(event, **change)


def _own(words: str, known: frozenset[str] | set[str]) -> str:
    return words if words in known else _taken(words)


def _taken(words: str) -> str:
    return GONE if words else ""


def _values(fields: Mapping[str, str]) -> dict[str, str]:
    return {name: _taken(words) for name, words in fields.items()}
