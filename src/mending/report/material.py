"""What a report is made of, and the few words that its parts share."""

from collections.abc import Sequence
from datetime import tzinfo

import msgspec

from mending.boot.chain import Trace
from mending.case import CaseResult
from mending.case.events import Rehearsed
from mending.case.turns import Turn
from mending.crash.results import CrashesResult
from mending.knowledge import HowTo, Pack
from mending.model import Finding, Where
from mending.plan import PlanResult
from mending.reason import CausesResult
from mending.repair.journal import PointsResult
from mending.report.document import Block, Section


class Pictures(msgspec.Struct, frozen=True, kw_only=True):
    """Drawings, SVG; empty where there is none."""

    disk: str = ""
    timeline: str = ""
    causes: str = ""
    plan: str = ""


class Material(msgspec.Struct, frozen=True, kw_only=True):
    """Everything a report is made of.

    Attributes:
        found: the trace as the disk was found. trace: as it is now.
        rehearsals: runs of the disk's own boot code, with words for the time of each.
        put_back: by step what has to be put back.
        cards: how the steps of the plan are done.
        made: RFC 3339. zone: of all times; None: this machine's.
    """

    case: CaseResult
    pack: Pack
    found: Trace | None
    trace: Trace | None
    rehearsals: Sequence[tuple[str, Rehearsed]] = ()
    crashes: CrashesResult | None = None
    causes: CausesResult
    turns: Sequence[Turn] = ()
    plan: PlanResult
    points: PointsResult
    put_back: dict[str, str]
    cards: Sequence[HowTo] = ()
    pictures: Pictures = Pictures()
    made: str
    zone: tzinfo | None = None


def mended_findings(given: Material) -> list[Finding]:
    """What kept the disk from starting when it was found, and does not any more after repairs of
    ours.
    """
    found, now = given.found, given.trace
    if found is None or now is None or not given.case.undo_points:
        return []
    left = {(finding.id, finding.where) for finding in now.fatal}
    return [finding for finding in found.fatal if (finding.id, finding.where) not in left]


def section(title: str, *blocks: Block) -> Section:
    """A part of a report."""
    return Section(title, tuple(blocks))


def at_place(says: str, where: Where) -> str:
    """A sentence with where it was read."""
    place = place_of(where)
    return f"{says} [{place}]" if place else says


def place_of(where: Where) -> str:
    """Where something was read, in words."""
    parts = [where.path or "", f"offset {where.offset}" if where.offset is not None else ""]
    parts += [f"line {where.line}" if where.line else ""]
    parts += [f"{where.length} bytes" if where.length else "", where.hex or ""]
    return ", ".join(part for part in parts if part)


def words_of(name: str) -> str:
    """An id as words."""
    return str(name).replace("-", " ")
