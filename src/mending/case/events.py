"""What happens to a case, one event a line of its record. Format: `docs/formats.md`.

A line is `{"sum": "<crc-32 of the event's bytes, hex>", "event": {...}}`. A crash can settings the
last line unfinished; it was never acknowledged, so it is passed over and cut off by the next
writer.
"""

import zlib
from collections.abc import Mapping

import msgspec

from mending.boot.chain import Trace
from mending.model import Finding, InputError
from mending.reason import ReportKind


class CaseEvent(msgspec.Struct, frozen=True, kw_only=True, tag_field="kind"):
    """Anything that happened. `at` is RFC 3339 with a zone."""

    at: str


class Learned(CaseEvent, frozen=True, kw_only=True, tag="learned"):
    """Facts about the PC, `unknown` among the possible answers; `notes` are in somebody's own
    words.
    """

    facts: Mapping[str, str] = {}
    notes: Mapping[str, str] = {}


class Saw(CaseEvent, frozen=True, kw_only=True, tag="saw"):
    """Signs and their answers."""

    signs: Mapping[str, str]


class Added(CaseEvent, frozen=True, kw_only=True, tag="added"):
    """A piece of evidence. `copy` is its name in the case's `evidence` folder; None where it is
    only named.
    """

    path: str
    sort: str
    bytes: int
    copy: str | None = None


class Traced(CaseEvent, frozen=True, kw_only=True, tag="traced"):
    """The disk was traced."""

    trace: Trace


class Read(CaseEvent, frozen=True, kw_only=True, tag="read"):
    """The crash records were read; `clues` are what they show."""

    files: tuple[str, ...]
    clues: tuple[Finding, ...]


class Tried(CaseEvent, frozen=True, kw_only=True, tag="tried"):
    """A step was done and reported something. `undo_point` is set where it was one of our
    repairs.
    """

    step: str
    report: ReportKind
    codes: tuple[str, ...] = ()
    note: str = ""
    undo_point: str | None = None


class Started(CaseEvent, frozen=True, kw_only=True, tag="started"):
    """A test start: does the PC start now?"""

    works: bool
    note: str = ""


class Mended(CaseEvent, frozen=True, kw_only=True, tag="mended"):
    """One of our repairs was written."""

    repair: str
    undo_point: str


class PutBack(CaseEvent, frozen=True, kw_only=True, tag="put-back"):
    """A repair was undone."""

    undo_point: str


AnyEvent = Learned | Saw | Added | Traced | Read | Tried | Started | Mended | PutBack


class _Line(msgspec.Struct, frozen=True):
    sum: str
    event: msgspec.Raw


def encode_line(event: AnyEvent) -> bytes:
    """One line of the record, with its line end."""
    body = msgspec.json.encode(event)
    return msgspec.json.encode(_Line(_sum(body), msgspec.Raw(body))) + b"\n"


def decode_record(data: bytes, name: str) -> tuple[list[AnyEvent], int]:
    """The events of a record, and how many of its bytes are whole lines.

    Raises:
        InputError: a line other than an unfinished last one is damaged.
    """
    events: list[AnyEvent] = []
    whole = data.rfind(b"\n") + 1
    for number, line in enumerate(data[:whole].splitlines(), 1):
        try:
            outer = msgspec.json.decode(line, type=_Line)
            if _sum(bytes(outer.event)) != outer.sum:
                raise InputError(
                    f"{name}: line {number} does not fit its checksum.",
                    "Take the folder's last backup.",
                )
            events.append(msgspec.json.decode(outer.event, type=AnyEvent))
        except msgspec.DecodeError as error:
            raise InputError(
                f"{name}: line {number} is damaged: {error}.", "Take the folder's last backup."
            ) from error
    return events, whole


def _sum(body: bytes) -> str:
    return f"{zlib.crc32(body):08x}"
