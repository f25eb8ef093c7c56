"""What happens to a case, one event a line of its record. Format: `docs/formats.md`.

A line is `{"sum": "<crc-32 of the event's bytes, hex>", "event": {...}}`; events that happened
together stand in one line, as `events`. A crash can leave the last line torn; it was never
acknowledged, so it is passed over and cut off by the next writer.
"""

import hashlib
import hmac
import re
import zlib
from collections.abc import Mapping, Sequence
from pathlib import Path

import msgspec

from mending.boot.chain import Trace
from mending.crash.screens import SeenCode
from mending.knowledge import WhyNotRun
from mending.model import Finding, InputError, Place, RefusedError, decode_json, encode_json, quoted
from mending.reason import ReportKind
from mending.source import Identity

# Evidence that lies outside of its case: who attached it, and by what it is known again.
#
# A case is a folder, and folders are copied, sent and unpacked elsewhere. The path of a disk in
# such a folder may name somebody else's disk, or be put there by somebody who wants a file of this
# machine to be read or written. So what lies outside is sealed when it is attached: a keyed hash,
# under a key that this machine alone has, over the path and over the case that it was attached to.
# A case is known by its place, or, where it was moved on its file system, by the numbers of its
# folder and of the file in it that never changes. A copy has neither, so its seals hold no longer;
# then the person at this machine has to attach the evidence again, and nothing is read or written
# before.


CASE_FILE = "case.json"


class Home(msgspec.Struct, frozen=True):
    """By what a case folder is known: its path, and the numbers that its file system gives to the
    device, the folder and the case file.
    """

    path: str
    device: int
    folder: int
    file: int


class Outside(msgspec.Struct, frozen=True, kw_only=True):
    """What is kept of evidence that lies outside of its case.

    Attributes:
        home: the case that it was attached to.
        seal: see above, in hex.
        identity: by what a disk is known again; None for what is no disk.
        lasting: the name of a device that goes with the drive; empty without one.
    """

    home: Home
    seal: str
    identity: Identity | None = None
    lasting: str = ""


def home_of(case: Path) -> Home:
    """By what a case folder is known now.

    Raises:
        OSError
    """
    folder, file = case.stat(), (case / CASE_FILE).stat()
    return Home(str(case.resolve()), folder.st_dev, folder.st_ino, file.st_ino)


def attach_outside(
    home: Home, path: str, key: bytes, identity: Identity | None = None, lasting: str = ""
) -> Outside:
    """What is kept of evidence that is attached now to a case."""
    return Outside(
        home=home, seal=_seal(home, path, lasting, key), identity=identity, lasting=lasting
    )


def was_attached_here(case: Path, path: str, outside: Outside | None, key: bytes | None) -> bool:
    """Whether this machine attached the evidence to this very case."""
    if outside is None or key is None:
        return False
    seal = _seal(outside.home, path, outside.lasting, key)
    if not hmac.compare_digest(outside.seal.encode("utf-8", "replace"), seal.encode()):
        return False
    try:
        now, then = home_of(case), outside.home
    except OSError:
        return False
    numbers = (now.device, now.folder, now.file) == (then.device, then.folder, then.file)
    return numbers or now.path == then.path


def refuse_elsewhere(case: Path, path: str) -> RefusedError:
    """The refusal of evidence that this machine did not attach to this case."""
    return RefusedError(
        f"{path} was not attached to the case {case} on this machine: it is a copy, or comes from"
        " elsewhere.",
        f"If that is what you mean: mending add {quoted(case)} {quoted(path)}",
    )


def _seal(home: Home, path: str, lasting: str, key: bytes) -> str:
    sealed = encode_json([home, path, lasting])
    return hmac.new(key, sealed, hashlib.sha256).hexdigest()


class CaseEvent(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind"):
    """Anything that happened. `at` is RFC 3339 with a zone."""

    at: str


class Learned(CaseEvent, frozen=True, kw_only=True, tag="learned"):
    """Facts about the PC, `unknown` among the possible answers; `notes` are in somebody's own
    words; `shop` are the fields that a workshop keeps, such as a ticket's number. `asked`: it was
    the answer to a question of `work`.
    """

    facts: Mapping[str, str] = {}
    notes: Mapping[str, str] = {}
    shop: Mapping[str, str] = {}
    asked: bool = False


class Saw(CaseEvent, frozen=True, kw_only=True, tag="saw"):
    """Signs and their answers, and codes that a screen showed. `asked`: it was the answer to a
    question of `work`.
    """

    signs: Mapping[str, str]
    codes: tuple[SeenCode, ...] = ()
    asked: bool = False


class Heard(CaseEvent, frozen=True, kw_only=True, tag="heard"):
    """What somebody said, and the answers that were taken from it.

    Attributes:
        left: clauses in which nothing was understood.
        about: the note that it answers; empty for anything else.
        before: what the screen showed before that, by the same sign.
        tried: steps that were done before, with their reports; failed: those of them after which
            the trouble was still there.
    """

    text: str
    signs: Mapping[str, str] = {}
    facts: Mapping[str, str] = {}
    codes: tuple[SeenCode, ...] = ()
    left: tuple[str, ...] = ()
    about: str = ""
    before: tuple[str, ...] = ()
    tried: Mapping[str, ReportKind] = {}
    failed: tuple[str, ...] = ()


class Added(CaseEvent, frozen=True, kw_only=True, tag="added"):
    """A piece of evidence.

    Attributes:
        copy: its name in the case's `evidence` folder; None where it is only named.
        outside: of what is only named: who attached it, and by what it is known again.
        same: it is the disk that the case has already, perhaps at another place or used since.
    """

    path: str
    sort: str
    bytes: int
    copy: str | None = None
    outside: Outside | None = None
    same: bool = False


class Traced(CaseEvent, frozen=True, kw_only=True, tag="traced"):
    """The disk was traced."""

    trace: Trace


class Rehearsed(CaseEvent, frozen=True, kw_only=True, tag="rehearsed"):
    """The disk's own boot code was run in the emulator.

    Attributes:
        stopped: how it came to rest, as in `rehearsal/1`.
        screen: what it printed, line by line.
        started_volume: whether it handed over to a boot sector.
    """

    stopped: str
    screen: tuple[str, ...] = ()
    started_volume: bool = False


class Read(CaseEvent, frozen=True, kw_only=True, tag="read"):
    """The crash records were read; `clues` are what they show, `codes` what stands for causes."""

    files: tuple[str, ...]
    clues: tuple[Finding, ...]
    codes: tuple[SeenCode, ...] = ()


class Tried(CaseEvent, frozen=True, kw_only=True, tag="tried"):
    """A step was done and reported something.

    Attributes:
        undo_point: set where it was one of our repairs.
        why: it could not be run.
        told: it was done before, and somebody told of it.
    """

    step: str
    report: ReportKind
    codes: tuple[str, ...] = ()
    note: str = ""
    undo_point: str | None = None
    why: WhyNotRun | None = None
    told: bool = False


class Started(CaseEvent, frozen=True, kw_only=True, tag="started"):
    """A test start: does the PC start now?

    Attributes:
        watch: it starts, with trouble that comes and goes: only time tells whether it works.
        hours: how long it ran before it failed, or has run so far; None: nobody knows.
    """

    works: bool
    note: str = ""
    watch: bool = False
    hours: float | None = None


class TakenBack(CaseEvent, frozen=True, kw_only=True, tag="taken-back"):
    """An entry was wrong: the newest report of a step, or the newest test start where there is no
    step.

    Attributes:
        entry: the number of the event in the record that counts no more, from 0; it goes before
            `step`.
    """

    step: str | None = None
    entry: int | None = None


class Mended(CaseEvent, frozen=True, kw_only=True, tag="mended"):
    """One of our repairs was written; `identity` is what the disk is known by since."""

    repair: str
    undo_point: str
    identity: Identity | None = None


class VisitStep(msgspec.Struct, frozen=True, kw_only=True):
    """A step of a visit that was begun, as it was planned then."""

    step: str
    minutes: float
    chance: float
    why: str


class Visiting(CaseEvent, frozen=True, kw_only=True, tag="visiting"):
    """Work began in one place.

    Attributes:
        how: the way there.
        steps: what is to be done there before the next test start.
    """

    place: Place
    how: str
    steps: tuple[VisitStep, ...]


class Noted(CaseEvent, frozen=True, kw_only=True, tag="noted"):
    """Something worth remembering, in somebody's own words; `about` is the step it belongs to."""

    text: str
    about: str = ""


class Listed(CaseEvent, frozen=True, kw_only=True, tag="listed"):
    """A listing of volumes.

    Attributes:
        lines: all of them, as they were read aloud or pasted; none: those from before.
        more: what somebody named before still holds.
        chosen: by role the volume that somebody named.
    """

    lines: tuple[str, ...] = ()
    more: bool = False
    chosen: Mapping[str, str] = {}


class PassedOver(CaseEvent, frozen=True, kw_only=True, tag="passed-over"):
    """A question to which nobody had an answer."""

    question: str


class Checked(CaseEvent, frozen=True, kw_only=True, tag="checked"):
    """One answer on the way to closing a case: what it is about, and what was said."""

    about: str
    says: str


class HandedOver(CaseEvent, frozen=True, kw_only=True, tag="handed-over"):
    """Somebody else goes on; `cause` is what is held to be wrong."""

    to: str
    cause: str = ""


class Closed(CaseEvent, frozen=True, kw_only=True, tag="closed"):
    """The case is done: it works from cold.

    Attributes:
        cause: and `fix`: ids, or somebody's own words.
        put_back: by step `done`, or why what it changed for a time stays.
        minutes: of work, as somebody told.
    """

    cause: str
    fix: str
    put_back: Mapping[str, str] = {}
    minutes: float | None = None


class Reopened(CaseEvent, frozen=True, kw_only=True, tag="reopened"):
    """Work on a case that was closed or handed over goes on."""


class PutBack(CaseEvent, frozen=True, kw_only=True, tag="put-back"):
    """A repair was undone; `identity` is what the disk is known by since."""

    undo_point: str
    identity: Identity | None = None


AnyEvent = (
    Learned
    | Saw
    | Heard
    | Added
    | Traced
    | Rehearsed
    | Read
    | Tried
    | Started
    | TakenBack
    | Mended
    | PutBack
    | Visiting
    | Noted
    | Listed
    | PassedOver
    | Checked
    | HandedOver
    | Closed
    | Reopened
)


_MOST_LINES = _MOST_EVENTS = 20_000
"""No case has a hundredth of it; a state is folded event by event, and each copies what it adds
to.
"""
_LINE = re.compile(rb'\{"sum":"([0-9a-f]{8})","event(s?)":(.*)\}', re.DOTALL)
"""A line is written in this very form; its sum is over the bytes of the event as they stand."""


class Record(msgspec.Struct, frozen=True):
    """What a record holds.

    Attributes:
        whole: bytes of its whole lines.
        torn: whether something follows that a crash left, which nobody was told about.
    """

    events: tuple[AnyEvent, ...]
    whole: int
    torn: bool


def encode_lines(events: Sequence[AnyEvent]) -> bytes:
    """Events that happened together, as one line of the record, with its line end: all of them are
    there after a crash, or none.
    """
    body = encode_json(events[0] if len(events) == 1 else list(events))
    name = "event" if len(events) == 1 else "events"
    return f'{{"sum":"{_sum(body)}","{name}":'.encode() + body + b"}\n"


def decode_record(data: bytes, name: str) -> Record:
    """What a record holds. Its last line may be torn: cut off, or with sectors of it lost.

    Raises:
        InputError: any other line is damaged.
    """
    events: list[AnyEvent] = []
    if data.count(b"\n") > _MOST_LINES:
        raise InputError(f"{name} has more lines than any record that is read.")
    lines = re.findall(rb"[^\n]*\n|[^\n]+", data)
    whole = 0
    for number, line in enumerate(lines, 1):
        try:
            if not line.endswith(b"\n"):
                raise InputError(f"{name}: line {number} does not end.")
            events += _decode_line(line, f"{name}: line {number}")
        except InputError:
            if number == len(lines):
                return Record(tuple(events), whole, True)
            raise
        whole += len(line)
        if len(events) > _MOST_EVENTS:
            raise InputError(f"{name} has more events than any record that is read.")
    return Record(tuple(events), whole, False)


def _decode_line(line: bytes, name: str) -> list[AnyEvent]:
    form = _LINE.fullmatch(line.strip())
    if form is None:
        raise InputError(f"{name} is damaged: it is no event.", "Take the folder's last backup.")
    total, several, body = form.groups()
    if _sum(body) != total.decode():
        raise InputError(f"{name} does not fit its checksum.", "Take the folder's last backup.")
    try:
        if not several:
            return [decode_json(body, AnyEvent)]  # type: ignore[arg-type]
        return decode_json(body, list[AnyEvent])
    except (msgspec.DecodeError, UnicodeDecodeError) as error:
        raise InputError(
            f"{name} is damaged: {error}.", "Take the folder's last backup."
        ) from error


def _sum(body: bytes) -> str:
    return f"{zlib.crc32(body):08x}"
