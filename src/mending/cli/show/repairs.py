"""Repairs and undo points as a person reads them."""

from collections.abc import Sequence
from itertools import groupby

from rich.console import Group, RenderableType

from mending.boot.chain import BarredRepair
from mending.cli.show.tables import indented, plain_id, rows, size, text, title
from mending.cli.show.traces import show_map
from mending.disk.scan import DiskMap
from mending.model import Verdict, quoted
from mending.repair.journal import PointsResult
from mending.repair.run import MendAllResult, MendResult, WriteResult

_MOST, _ONE_BY_ONE, _MOST_READ = 12, 3, 10_000
"""Writes that are listed one by one, in all and of one kind; those that are looked at."""


def show_mend(result: MendResult) -> RenderableType:
    """What is or would be written, and what the trace says before and after."""
    verb = "written" if result.done else "would be written"
    cells: list[tuple[object, ...]] = []
    for says, group in groupby(result.writes[:_MOST_READ], key=lambda write: write.says):
        cells += _shown(says, list(group), verb)
    if len(cells) > _MOST * 3:
        cells = [*cells[: _MOST * 3], ("", "and more ranges; --json has all of them")]
    maps = [show_map(disk, name) for name, disk in maps_of(result)]
    ends = rows([("checked:", text("; ".join(result.proof), "soft")), *_ends(result)])
    return Group(title(result.repair), indented(text(result.says), rows(cells)), *maps, ends)


def show_written(result: MendResult) -> RenderableType:
    """How a repair went whose bytes were shown already."""
    count = sum(write.length for write in result.writes)
    return Group(title(f"{result.repair}: {count} bytes written."), rows(_ends(result)))


def _ends(result: MendResult) -> list[tuple[object, ...]]:
    before = _state(result.before, result.failing_before)
    after = _state(result.after, result.failing_after)
    outcome = "doubt" if result.failing_after else "good"
    ends: list[tuple[object, ...]] = [
        ("trace before:", before),
        ("trace after:", text(after, outcome)),
    ]
    if result.undo_point:
        ends.append(("undo point:", result.undo_point))
    if result.warning:
        ends.append(("warning:", text(result.warning, "warning")))
    return ends


def _shown(says: str, writes: list[WriteResult], verb: str) -> list[tuple[object, ...]]:
    """What is written of one kind: each place with its bytes, or, of many places, how many; their
    bytes would tell a person nothing.
    """
    total, first, last = sum(write.length for write in writes), writes[0], writes[-1]
    if len(writes) > _ONE_BY_ONE and first.path is None:
        places = f"{len(writes)} ranges up to offset {last.offset + last.length}"
        return [(f"offset {first.offset}", f"{total} bytes {verb} in {places}: {says}")]
    cells: list[tuple[object, ...]] = []
    for write in writes:
        if write.path is not None:
            cells.append((write.path, f"{write.length} bytes {verb}: {says}"))
            continue
        cells += [
            (f"offset {write.offset}", f"{write.length} bytes {verb}: {says}"),
            ("  before", text(write.before_hex, "soft")),
            ("  after", text(write.after_hex, "soft")),
        ]
    return cells


def maps_of(result: MendResult) -> list[tuple[str, DiskMap]]:
    """The disk before and after, where the repair changes the table."""
    later = "after" if result.done else "as it would be"
    pairs = [("before", result.map_before), (later, result.map_after)]
    return [(name, disk) for name, disk in pairs if disk is not None]


def show_mend_all(result: MendAllResult, named: str) -> RenderableType:
    """Every repair, then the outcome of all together. Args: named: how the person named the
    target.
    """
    if not result.steps and not result.refused:
        return text("No finding calls for a repair that Mending carries out.")
    parts: list[RenderableType] = []
    for step in result.steps:
        parts += [show_mend(step), text("")]
    verb = "mended" if result.done else "would be mended"
    before, after = (
        _state(result.before, result.failing_before),
        _state(result.after, result.failing_after),
    )
    if result.steps:
        count = len(result.steps)
        parts += [text(f"{verb}: {count}; before: {before}; after: {after}", "bold")]
    else:
        parts += [text(f"Nothing is mended; {before}.", "bold")]
    parts += show_barred(result.refused, named)
    if result.steps and not result.done:
        parts.append(text(f"do it: mending mend {quoted(named)} --all"))
    return Group(*parts)


def show_barred(barred: Sequence[BarredRepair], named: str) -> list[RenderableType]:
    """Repairs that are called for and cannot be done, with the line to type where an option would
    settle it.
    """
    parts: list[RenderableType] = []
    for each in barred:
        parts.append(text(f"not done: {each.repair}: {each.says}"))
        if each.option:
            line = f"mending mend {quoted(named)} {each.repair} {each.option}"
            parts.append(indented(text(line, "bold")))
        elif each.hint:
            parts.append(indented(text(each.hint, "soft")))
    return parts


def _state(verdict: str, phase: str | None) -> str:
    if phase:
        return f"stops at {plain_id(phase)}"
    return plain_id(verdict) if verdict != Verdict.UNSURE else "nothing that was read stops it"


def show_points(result: PointsResult) -> RenderableType:
    """The undo points of a target."""
    parts: list[RenderableType] = []
    for damaged in result.damaged:
        parts.append(text(f"{damaged.path} cannot be used: {damaged.says}", "warning"))
    if result.warning:
        parts.append(text(result.warning, "warning"))
    if not result.points:
        return Group(*parts, text("No undo points for this target."))
    cells = [
        (
            point.id,
            point.repair,
            size(point.bytes),
            point.state if point.made_here else f"{point.state}, made elsewhere",
            point.made[:16].replace("T", " "),
        )
        for point in result.points
    ]
    heads = ("undo point", "repair", "keeps", "state", "made")
    return Group(*parts, rows(cells, heads, wide=4, drop=(2, 4)))
