"""A trace as a person reads it: the verdict first, then what it rests on."""

from rich.console import Group, RenderableType
from rich.text import Text

from mending.boot import Trace, VolumeResult
from mending.cli.show.console import indented, named_target, plain_id, rows, size, text, title
from mending.cli.show.maps import show_map
from mending.knowledge import Pack
from mending.model import Finding, PhaseState, Severity, VolumeState, Where

_STYLES = {
    PhaseState.PASSED: "green",
    PhaseState.FAILED: "bold red",
    PhaseState.DOUBTFUL: "magenta",
    PhaseState.NOT_REACHED: "dim",
    PhaseState.NOT_CHECKED: "dim",
}
_FOLDER = "folder"
_VERDICTS = {
    "no-fault-found": ("no fault found in what was read", "green"),
    "unsure": ("not sure: something that decides could not be checked", "magenta"),
}


def show_trace(trace: Trace, pack: Pack, named: str) -> RenderableType:
    """The whole trace. Args: named: how the person named the target, for the command to type next."""
    target = trace.target
    about = f"{size(target.bytes)}, {target.sector} bytes a sector, {trace.firmware} firmware, {trace.scheme} table"
    if target.kind == _FOLDER:
        about = f"a mounted tree: {', '.join(one.label for one in trace.volumes)}"
    parts: list[RenderableType] = [title(named_target(target.path, named)), indented(text(about, "dim")), text("")]
    parts += [rows(_verdict(trace, pack, named)), text("")]
    parts += [rows(_ladder(trace), ("phase", "state", "what was seen", "where"), wide=2), text("")]
    others = [finding for finding in trace.findings if finding.severity is not Severity.FATAL]
    if others:
        parts += [title("also found"), indented(rows([(plain_id(one.severity), one.says) for one in others])), text("")]
    if trace.volumes and target.kind != _FOLDER:
        heads = ("no.", "start", "in use", "type", "file system", "label", "role")
        parts += [show_map(trace.map), text("")] if trace.map is not None else []
        parts += [rows([_volume(one) for one in trace.volumes], heads, wide=3, right=(0, 1, 2))]
        parts += [text(f"{one} on volume {volume.number}: an earlier installation") for volume, one in _earlier(trace)]
    parts += [text(f"{one.family} system {one.title} on volume {one.volume}") for one in trace.systems]
    return Group(*parts)


_WIDEST_PATH = 24


def where(place: Where, says: str = "") -> str:
    """An offset or a path, as short as it goes: what the sentence says already is left out."""
    if place.path is not None:
        name = "" if place.path in says else place.path
        name = name if len(name) <= _WIDEST_PATH else f"…{name[1 - _WIDEST_PATH :]}"
        return name if place.line is None else f"{name} line {place.line}".strip()
    if place.offset is None:
        return ""
    return f"{place.offset}" + (f" +{place.length}" if place.length else "")


def _verdict(trace: Trace, pack: Pack, named: str) -> list[tuple[object, ...]]:
    if trace.failing_phase is None:
        says, style = _VERDICTS[trace.verdict]
        return [("verdict:", text(says, style))]
    cells: list[tuple[object, ...]] = [("stops at:", text(plain_id(trace.failing_phase), "bold red"))]
    for number, finding in enumerate(trace.fatal):
        cells.append(("because:" if number == 0 else "and:", text(finding.says)))
        cells.append(("", text(_evidence(finding), "dim")))
    repairs = dict.fromkeys(_repairs(trace))
    cells += [("do:", _advice(repair, pack, named)) for repair in repairs]
    return cells if repairs else [*cells, ("do:", "by hand; `mending plan` of a case orders the steps")]


def _repairs(trace: Trace) -> list[str]:
    return [repair for finding in trace.fatal for repair in finding.repairs]


def _advice(repair: str, pack: Pack, named: str) -> Text:
    step = next((one for one in pack.steps.values() if one.repair == repair), None)
    cost = f"   ({step.minutes:g} min, {stakes(step.stakes)})" if step else ""
    return text(f"mending mend {named} {repair}{cost}", "bold")


def stakes(name: str) -> str:
    """What is at stake, in words."""
    return {"nothing": "nothing at risk", "files": "personal files at risk"}.get(name, f"{name} at risk")


def _evidence(finding: Finding) -> str:
    place = finding.where
    parts = [f"file {place.path}" if place.path else "", f"line {place.line}" if place.line is not None else ""]
    parts += [f"offset {place.offset}" if place.offset is not None else ""]
    parts += [f"{place.length} bytes" if place.length else ""]
    found = ", ".join(part for part in parts if part)
    return f"{found}: {place.hex}" if place.hex else found


def _ladder(trace: Trace) -> list[tuple[object, ...]]:
    cells: list[tuple[object, ...]] = []
    for phase in trace.phases:
        rungs = [rung for rung in trace.rungs if rung.phase is phase.id]
        behind = phase.state is PhaseState.NOT_REACHED
        states = [phase.state if behind else rung.state for rung in rungs] or [phase.state]
        seen = [(rung.says, where(rung.where, rung.says)) for rung in rungs] or [("", "")]
        for number, (state, (says, place)) in enumerate(zip(states, seen, strict=True)):
            name = plain_id(phase.id) if number == 0 else ""
            cells.append((name, text(plain_id(state), _STYLES[state]), says, place))
    return cells


def _earlier(trace: Trace) -> list[tuple[VolumeResult, str]]:
    return [(volume, folder) for volume in trace.volumes for folder in volume.earlier]


def _volume(volume: VolumeResult) -> tuple[object, ...]:
    number = f"{volume.number}{'*' if volume.active else ''}"
    length = size(volume.bytes) if volume.used is None else f"{size(volume.used)} of {size(volume.bytes)}"
    left = volume.state if volume.state in {VolumeState.DIRTY, VolumeState.HIBERNATED} else ""
    role = ", ".join(part for part in (plain_id(volume.role), left) if part)
    return number, volume.start, length, volume.type, volume.filesystem, volume.label, role
