"""Two moments set against each other, as a person reads it."""

from collections import Counter

from rich.console import Group, RenderableType

from mending.boot.settings import CHANGES, CompareResult, SettingChange, SideResult
from mending.cli.show.console import indented, minute, rows, text, title

_MOST = 8
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
    shown = changes if everything else changes[:_MOST]
    cells = [(change.change, change.kind, change.name, _told(change)) for change in shown]
    parts: list[RenderableType] = [indented(rows(cells))]
    left = len(changes) - len(shown)
    parts += [indented(text(f"and {left} more; --all shows them", "soft"))] if left else []
    return parts


def _told(change: SettingChange) -> str:
    if change.change != "changed":
        return change.is_ or change.was
    return f"{change.was} -> {change.is_}"
