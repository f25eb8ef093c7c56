"""The copy of a drive as a person reads it: what matters first."""

from collections import Counter

from rich.console import Group, RenderableType

from mending.app.healthy import KeepResult
from mending.boot.chain import ChangedPart
from mending.cli.show.tables import (
    indented,
    minute,
    named_target,
    plain_id,
    rows,
    size,
    text,
    title,
)
from mending.disk.settings import CHANGES, CompareResult, SettingChange, SideResult
from mending.imaging.checking import CopyCheckResult
from mending.imaging.copying import CopyResult, PartResult
from mending.model import Verdict, quoted
from mending.source.devices import DriveHealth

_MOST = 12
_NAMES = {"asked-for": "asked for first", "others": "other files"}


def show_copy(result: CopyResult) -> RenderableType:
    """How much of what matters is safe, which files are not, and what to do next."""
    cells: list[tuple[object, ...]] = [
        ("safe", f"{size(result.safe)} of {size(result.bytes)}"),
        *((_NAMES[part.what], _part(part)) for part in result.parts if part.files),
        ("unread", text(size(result.unread), "warning") if result.unread else "nothing"),
    ]
    if result.health is not None:
        cells.append(("the drive says", _health(result.health)))
    if result.stopped:
        cells.append(("stopped", text(result.stopped, "warning")))
    parts: list[RenderableType] = [title(result.image), indented(rows(cells))]
    if result.unread_files:
        listed = [
            (file.path, f"{size(file.safe_bytes)} of {size(file.bytes)}")
            for file in result.unread_files[:_MOST]
        ]
        parts += [text(""), title("files that are not whole"), indented(rows(listed, wide=0))]
        left = len(result.unread_files) - _MOST
        parts += [text(f"and {left} more; --json has them")] if left > 0 else []
    for says in result.unseen[:_MOST]:
        parts.append(text(f"not walked: {says}", "warning"))
    parts.append(text(""))
    if result.stopped or result.unread:
        parts.append(text(f"go on: mending copy {quoted(result.drive)} {quoted(result.image)}"))
    parts.append(text(f"then: mending trace {quoted(result.image)}"))
    if result.asked:
        parts.append(
            text(f"is it still what was read? mending copy {quoted(result.image)} --verify")
        )
    return Group(*parts)


def show_copy_check(result: CopyCheckResult) -> RenderableType:
    """Whether the image holds what the drive gave; where it does not, and what to do next."""
    lost = sum(piece.bytes for piece in result.lost)
    cells: list[tuple[object, ...]] = [
        ("as it was read", size(result.checked - lost)),
        ("not any more", text(size(lost), "bad") if lost else "nothing"),
        ("known zeros", f"{size(result.without_sum)}, without having been read"),
        ("unread", text(size(result.unread), "warning") if result.unread else "nothing"),
    ]
    parts: list[RenderableType] = [title(result.image), indented(rows(cells))]
    if result.lost:
        listed = [(f"{piece.offset:#x}", size(piece.bytes)) for piece in result.lost[:_MOST]]
        parts += [text(""), title("pieces that differ"), indented(rows(listed))]
        left = len(result.lost) - _MOST
        parts += [text(f"and {left} more; --json has them")] if left > 0 else []
    if result.unread or result.lost:
        verify = " --verify" if result.lost else ""
        parts += [
            text(""),
            text(f"go on: mending copy {quoted(result.drive)} {quoted(result.image)}{verify}"),
        ]
    return Group(*parts)


def _part(part: PartResult) -> str:
    files = f"{part.safe_files} of {part.files} files"
    return f"{files}, {size(part.safe_bytes)} of {size(part.bytes)}"


def _health(health: DriveHealth) -> str:
    told = [
        f"state {health.state}" if health.state else "",
        f"{health.requests_failed} requests failed" if health.requests_failed else "",
        f"{health.requests_timed_out} timed out" if health.requests_timed_out else "",
        f"{health.celsius:.0f} °C" if health.celsius is not None else "",
    ]
    return ", ".join(filter(None, told)) or "nothing"


# What a healthy copy has otherwise than the disk, as a person reads it.


_PARTS = 24


def show_changed(parts: tuple[ChangedPart, ...]) -> RenderableType:
    """What a healthy copy has otherwise than the disk, in the order of starting."""
    heading = title("since the healthy copy")
    if not parts:
        return Group(heading, indented(text("Everything in it is as it was.", "good")))
    cells = [
        (
            plain_id(part.phase),
            part.path or f"{part.what}, offset {part.offset}",
            plain_id(part.state),
        )
        for part in parts[:_PARTS]
    ]
    more = (
        [text(f"and {len(parts) - _PARTS} more; --json has all of them")]
        if len(parts) > _PARTS
        else []
    )
    return Group(heading, indented(rows(cells, ("phase", "what", "now"), wide=1)), *more)


# Two moments set against each other, as a person reads it.


_COMPARED_MOST = 8
_KINDS = {
    "driver": "drivers",
    "service": "services",
    "filter": "filters of device classes",
    "session": "programs before the session",
    "control-set": "control sets",
    "set-up": "set-up",
    "letter": "drive letters",
    "sign-in": "programs at sign-in",
    "start-up": "start-up items",
    "program": "programs",
    "update": "updates",
    "device": "devices",
}


def show_compare(result: CompareResult, *, everything: bool) -> RenderableType:
    """Both sides, what the start depends on, then the other kinds."""
    parts: list[RenderableType] = [indented(rows([_side("A", 0, result), _side("B", 1, result)]))]
    deciding = [change for change in result.changes if change.decides]
    others = [change for change in result.changes if not change.decides]
    parts += [text(""), title("what the start depends on")]
    if deciding:
        parts += _listed(deciding, everything)
    else:
        parts.append(indented(text("nothing differs", "soft")))
    for kind, name in _KINDS.items():
        same = [change for change in others if change.kind == kind]
        if same:
            counted = Counter(change.change for change in same)
            told = ", ".join(f"{counted[what]} {what}" for what in CHANGES if counted[what])
            parts += [text(""), title(f"{name}: {told}"), *_listed(same, everything)]
    told = ", ".join(f"{count} in {hive}" for hive, count in result.others.items() if count)
    parts += [text(""), text(f"keys that differ in all: {told or 'none'}", "soft")]
    parts += [text(note, "warning") for note in result.notes]
    return Group(*parts)


def _side(letter: str, number: int, result: CompareResult) -> tuple[object, ...]:
    side: SideResult = result.sides[number]
    when = f"written {minute(side.written)} UTC" if side.written else "nobody knows when written"
    return letter, f"{side.name}{f', {side.home}' if side.home else ''}, {when}"


def _listed(changes: list[SettingChange], everything: bool) -> list[RenderableType]:
    shown = changes if everything else changes[:_COMPARED_MOST]
    cells = [(change.change, change.kind, change.name, _told(change)) for change in shown]
    parts: list[RenderableType] = [indented(rows(cells))]
    left = len(changes) - len(shown)
    parts += [indented(text(f"and {left} more; --all shows them", "soft"))] if left else []
    return parts


def _told(change: SettingChange) -> str:
    if change.change != "changed":
        return change.is_ or change.was
    return f"{change.was} -> {change.is_}"


# Healthy copies as a person reads them.


_HEALTHY_MOST = 8


def show_keep(result: KeepResult, named: str) -> RenderableType:
    """What is in the copy, and what to do with it. Args: named: how the person named the target."""
    cells: list[tuple[object, ...]] = [
        ("copy", f"{result.copy} ({size(result.copy_bytes)})"),
        (
            "holds",
            f"{result.ranges} ranges of the disk and {result.files} files,"
            f" {size(result.bytes)} in all",
        ),
    ]
    if result.sums:
        cells.append(("sums only", f"{result.sums} files"))
    if result.private:
        says = f"it holds what is secret ({', '.join(result.private)}): keep it to yourself"
        cells.append(("take care", text(says, "warning")))
    for says in result.left_out[:_HEALTHY_MOST]:
        cells.append(("left out", text(says, "warning")))
    if len(result.left_out) > _HEALTHY_MOST:
        cells.append(
            ("", f"and {len(result.left_out) - _HEALTHY_MOST} more; --json has all of them")
        )
    if result.verdict != Verdict.NO_FAULT_FOUND:
        cells.append(
            ("take care", text(f"the trace of this PC says {plain_id(result.verdict)}.", "warning"))
        )
    target, copy = quoted(named), quoted(result.copy)
    return Group(
        title(named_target(result.target, named)),
        indented(rows(cells)),
        text(""),
        text(f"what changed later: mending trace {target} --against {copy}"),
        text(f"take parts from it: mending mend {target} --all --from {copy}"),
    )
