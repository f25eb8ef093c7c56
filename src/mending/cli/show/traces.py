"""A trace as a person reads it: the verdict first, then what it rests on."""

from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.text import Text

from mending.boot.chain import BarredRepair, Trace, VolumeResult
from mending.boot.rehearse import MEANINGS, RehearsalResult
from mending.cli.show.copies import show_changed
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
from mending.disk.opening import moment_of
from mending.disk.scan import DiskMap, FoundResult, SearchResult
from mending.knowledge import Pack
from mending.model import (
    Finding,
    PhaseState,
    RepairId,
    Severity,
    Verdict,
    VolumeState,
    Where,
    quoted,
)
from mending.repair.files import OWN_SUMS, FilesResult
from mending.report.figures import Box, lay_out

# The disk map in the terminal: a ribbon to scale, and under it where its parts begin.


_LEAST = {"table": 2.0, "gap": 5.0, "volume": 13.0, "unlisted": 13.0}
_STYLES = {
    "table": "reverse dim",
    "volume": "black on cyan",
    "unlisted": "black on yellow",
    "gap": "soft",
}
_FILL = {"table": "#", "volume": " ", "unlisted": "?", "gap": "."}
_WIDEST = 110


class Ribbon:
    """A map as wide as the terminal allows, up to what is still taken in at a glance."""

    def __init__(self, disk: DiskMap) -> None:
        self._disk = disk

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        width = min(options.max_width, _WIDEST)
        boxes = lay_out(self._disk, width, _LEAST)
        lanes = 1 + max((box.lane for box in boxes), default=0)
        for lane in range(lanes):
            yield _lane([box for box in boxes if box.lane == lane], width)
        yield _scale(boxes, self._disk, width)


def show_map(disk: DiskMap, title: str = "") -> RenderableType:
    """One ribbon. Args: title: a line above it, for instance before and after."""
    return Group(text(title, "soft"), Ribbon(disk)) if title else Ribbon(disk)


def _lane(boxes: list[Box], width: int) -> Text:
    line, at = Text(no_wrap=True), 0
    for box in boxes:
        left, right = round(box.left), round(box.right)
        if right <= left:
            continue
        line.append(" " * (left - at))
        line.append(_cell(box, right - left), _STYLES[box.stretch.kind])
        at = right
    line.append(" " * (width - at))
    return line


def _cell(box: Box, width: int) -> str:
    """A volume between bars with its number, kind and label as far as there is room; the others as
    a pattern.
    """
    stretch = box.stretch
    if stretch.kind in {"table", "gap"} or width < 3:
        return _FILL[stretch.kind] * width
    number = "?" if stretch.number is None else str(stretch.number)
    inside = text(f"{number} {stretch.filesystem} {stretch.label}".rstrip()).plain
    return f"[{inside[: width - 2].ljust(width - 2)}]"


def _scale(boxes: tuple[Box, ...], disk: DiskMap, width: int) -> Text:
    line = ""
    starts = {
        round(box.left): box.stretch.start * disk.sector
        for box in boxes
        if box.stretch.kind != "table"
    }
    for left, start in sorted(starts.items()):
        words = size(start)
        if left >= len(line) and left + len(words) <= width:
            line = line.ljust(left) + words + "  "
    end = size(disk.sectors * disk.sector)
    if len(line.rstrip()) + 2 + len(end) <= width:
        line = line.rstrip().ljust(width - len(end)) + end
    return Text(line, style="soft", no_wrap=True)


_TRACES_STYLES = {
    PhaseState.PASSED: "good",
    PhaseState.FAILED: "bad",
    PhaseState.DOUBTFUL: "doubt",
    PhaseState.NOT_REACHED: "soft",
    PhaseState.NOT_CHECKED: "soft",
    PhaseState.NOT_ON_DISK: "soft",
}
_FOLDER = "folder"


def show_trace(trace: Trace, pack: Pack, named: str) -> RenderableType:
    """The whole trace. Args: named: how the person named the target, for the command to type
    next.
    """
    target = trace.target
    about = (
        f"{size(target.bytes)}, {target.sector} bytes a sector, {trace.firmware} firmware,"
        f" {trace.table}"
    )
    if target.kind == _FOLDER:
        about = f"a mounted tree: {', '.join(volume.label for volume in trace.volumes)}"
    parts: list[RenderableType] = [
        title(named_target(target.path, named)),
        indented(text(about, "soft")),
        text(""),
    ]
    parts += [rows(_verdict(trace, pack, named)), text("")]
    parts += [
        rows(_ladder(trace), ("phase", "state", "what was seen", "where"), wide=2, drop=(3,)),
        text(""),
    ]
    others = [finding for finding in trace.findings if finding.severity is not Severity.FATAL]
    if others:
        parts += [
            title("also found"),
            indented(rows([(plain_id(fault.severity), fault.says) for fault in others])),
            text(""),
        ]
    if trace.against is not None:
        parts += [show_changed(trace.against), text("")]
    if trace.volumes and target.kind != _FOLDER:
        heads = ("no.", "start", "in use", "type", "file system", "label", "role")
        parts += [show_map(trace.map), text("")] if trace.map is not None else []
        parts += [
            rows(
                [_volume(volume) for volume in trace.volumes],
                heads,
                wide=3,
                right=(0, 1, 2),
                drop=(1, 5, 2),
            )
        ]
        parts += [
            text(f"{name} on volume {volume.number}: an earlier installation")
            for volume, name in _earlier(trace)
        ]
    parts += _locks_and_moments(trace)
    parts += [
        text(f"{system.family} system {system.title} on volume {system.volume}")
        for system in trace.systems
    ]
    return Group(*parts)


def _locks_and_moments(trace: Trace) -> list[RenderableType]:
    parts: list[RenderableType] = []
    for volume in trace.volumes:
        for number, way in enumerate(volume.locks):
            says = "  " if number else f"volume {volume.number} is {_locked(trace, volume)}; "
            parts.append(text(f"{says}{way}"))
        if volume.moments and moment_of(trace.target.path)[1] is None:
            newest, count = volume.moments[-1], len(volume.moments)
            says = f"keeps {count} earlier {'moment' if count == 1 else 'moments'}, number"
            moment = quoted(f"{trace.target.path}@{newest.number}")
            when = f"{newest.number} of {minute(newest.at)} UTC is the newest"
            parts.append(text(f"volume {volume.number} {says} {when}"))
            parts.append(text(f"  the disk as it was: mending trace {moment}"))
    return parts


def _locked(trace: Trace, volume: VolumeResult) -> str:
    inside = f"inside volume {volume.number}"
    return "unlocked" if any(each.type == inside for each in trace.volumes) else "locked"


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
        return _without_failure(trace)
    cells: list[tuple[object, ...]] = [("stops at:", text(plain_id(trace.failing_phase), "bad"))]
    for number, finding in enumerate(trace.fatal):
        cells.append(("because:" if number == 0 else "and:", text(finding.says)))
        cells.append(("", text(_evidence(finding), "soft")))
    repairs = _repairs(trace)
    cells += [("do:", _advice(repair, pack, named)) for repair in repairs]
    for name in trace.unsearched:
        if name in repairs:
            says = f"{name}: whether it can be done, a search of the whole disk tells"
            cells.append(("", text(says, "soft")))
    for each in trace.barred:
        if each.fatal:
            cells += _in_the_way(each, named)
    if not repairs and not any(each.fatal and each.option for each in trace.barred):
        cells.append(("do:", "by hand; `mending plan` of a case orders the steps"))
    return cells


def _in_the_way(barred: BarredRepair, named: str) -> list[tuple[object, ...]]:
    """A repair that cannot be done as things are, and what would let it."""
    cells: list[tuple[object, ...]] = [("not yet:", text(f"{barred.repair}: {barred.says}"))]
    if barred.option:
        line = f"mending mend {quoted(named)} {barred.repair} {barred.option}"
        cells.append(("", text(line, "bold")))
    elif barred.hint:
        cells.append(("", text(barred.hint, "soft")))
    return cells


def _without_failure(trace: Trace) -> list[tuple[object, ...]]:
    """No check failed: what that is worth depends on whether all was read."""
    if trace.verdict is Verdict.NO_FAULT_FOUND:
        return [("verdict:", text("no fault found; every phase was read to its end", "good"))]
    cells: list[tuple[object, ...]] = [
        ("verdict:", text("not sure; nothing that was read stops the start", "doubt"))
    ]
    if trace.unread is not None:
        cells.append(("open:", text(f"{plain_id(trace.unread.phase)}: {trace.unread.says}")))
    return cells


def _repairs(trace: Trace) -> list[RepairId]:
    """In the order in which `mend --all` takes them."""
    called_for = {repair for finding in trace.fatal for repair in finding.repairs}
    return [repair for repair in RepairId if repair in called_for]


def _advice(repair: str, pack: Pack, named: str) -> Text:
    step = next((step for step in pack.steps.values() if step.repair == repair), None)
    cost = f"   ({step.minutes:g} min, {stakes(step.stakes)})" if step else ""
    return text(f"mending mend {quoted(named)} {repair}{cost}", "bold")


def stakes(name: str) -> str:
    """What is at stake, in words."""
    return {"nothing": "nothing at risk", "files": "personal files at risk"}.get(
        name, f"{name} at risk"
    )


def _evidence(finding: Finding) -> str:
    place = finding.where
    parts = [
        f"file {place.path}" if place.path else "",
        f"line {place.line}" if place.line is not None else "",
    ]
    parts += [f"offset {place.offset}" if place.offset is not None else ""]
    parts += [f"{place.length} bytes" if place.length else ""]
    found = ", ".join(part for part in parts if part)
    return f"{found}: {place.hex}" if place.hex else found


def _ladder(trace: Trace) -> list[tuple[object, ...]]:
    cells: list[tuple[object, ...]] = []
    for phase in trace.phases:
        checks = [check for check in trace.checks if check.phase is phase.id]
        behind = phase.state is PhaseState.NOT_REACHED
        states = [phase.state if behind else check.state for check in checks] or [phase.state]
        seen = [(check.says, where(check.where, check.says)) for check in checks] or [("", "")]
        for number, (state, (says, place)) in enumerate(zip(states, seen, strict=True)):
            name = plain_id(phase.id) if number == 0 else ""
            cells.append((name, text(plain_id(state), _TRACES_STYLES[state]), says, place))
    return cells


def _earlier(trace: Trace) -> list[tuple[VolumeResult, str]]:
    return [(volume, folder) for volume in trace.volumes for folder in volume.earlier]


def _volume(volume: VolumeResult) -> tuple[object, ...]:
    number = f"{volume.number}{'*' if volume.active else ''}"
    length = (
        size(volume.bytes)
        if volume.used is None
        else f"{size(volume.used)} of {size(volume.bytes)}"
    )
    left = volume.state if volume.state in {VolumeState.DIRTY, VolumeState.HIBERNATED} else ""
    role = ", ".join(part for part in (plain_id(volume.role), left) if part)
    return number, volume.start, length, volume.type, volume.filesystem, volume.label, role


# Boot-critical files as a person reads them.


_MOST = 40


def show_files(result: FilesResult, named: str) -> RenderableType:
    """The count, then what is not sound. Args: named: how the person named the target, for the
    command to type next.
    """
    parts: list[RenderableType] = [title(named_target(result.target, named))]
    if result.by == OWN_SUMS:
        return Group(*parts, *_by_own_sums(result))
    count = f"{result.checked} files that starting needs were compared on volume {result.volume}"
    if not result.files:
        return Group(
            *parts, indented(text(f"{count}; all are as their packages have them.", "good"))
        )
    parts += [
        indented(text(f"{count}; not sound: {len(result.files)}.", "bad")),
        text(""),
    ]
    cells = [
        (file.path, file.state, file.package, "at hand" if file.copy else "none")
        for file in result.files[:_MOST]
    ]
    parts.append(rows(cells, ("file", "state", "package", "sound copy"), wide=0, drop=(2,)))
    if len(result.files) > _MOST:
        parts.append(text(f"… and {len(result.files) - _MOST} more; --json has all of them"))
    if any(file.copy for file in result.files):
        parts += [
            text(""),
            text(f"do: mending mend {quoted(named)} file-restore, with the same --from", "bold"),
        ]
    return Group(*parts)


_PROOFS = {
    "catalogue": "by a catalogue of the system",
    "header-sum": "by the sum in their header alone",
    "nothing": "by their header alone, which is little",
    "signature": "by what was signed of them",
}


def _by_own_sums(result: FilesResult) -> list[RenderableType]:
    """Programs that were judged without a sound copy."""
    count = f"{result.checked} programs were judged on volume {result.volume}"
    told = [f"{number} {_PROOFS[name]}" for name, number in sorted(result.proofs.items())]
    signed = "signature" in result.proofs or "catalogue" in result.proofs
    judged = "; who signed is not judged" if signed else ""
    proved = indented(text(f"sound: {', '.join(told)}{judged}")) if told else text("")
    if not result.files:
        return [indented(text(f"{count}; none is damaged.", "good")), proved]
    bad = indented(text(f"{count}; not sound: {len(result.files)}.", "bad"))
    parts = [bad, proved, text("")]
    cells = [(file.path, file.state, file.package, file.why) for file in result.files[:_MOST]]
    table = rows(cells, ("file", "state", "what it is", "why"), wide=3, drop=(2,))
    more = len(result.files) - _MOST
    return [*parts, table, *([text(f"… and {more} more; --json has all")] if more > 0 else [])]


# A search as a person reads it.


def show_search(result: SearchResult, named: str) -> RenderableType:
    """Every volume that was found, and what speaks for it."""
    if not result.found:
        return text("No volume was found.")
    cells = [
        (
            volume.start,
            _size(volume),
            volume.filesystem,
            volume.label,
            f"{volume.confidence:.0%}",
            _place(volume),
            "; ".join(volume.because),
        )
        for volume in result.found
    ]
    heads = ("start", "size", "file system", "label", "sure", "table", "because")
    ribbon = (show_map(result.map), text("")) if result.map is not None else ()
    return Group(
        title(named_target(result.path, named)),
        *ribbon,
        rows(cells, heads, wide=6, right=(0, 1, 4), drop=(3, 1)),
    )


def _size(volume: FoundResult) -> str:
    most = volume.open_ended and volume.listed is None
    return f"up to {size(volume.bytes)}" if most else size(volume.bytes)


def _place(volume: FoundResult) -> RenderableType:
    if volume.inside is not None:
        return f"inside {volume.inside}"
    return f"entry {volume.listed}" if volume.listed else text("not listed", "doubt")


# A rehearsal as a person reads it.


_SHOWN = 12


def show_rehearsal(result: RehearsalResult, named: str) -> RenderableType:
    """Where it stopped, what it printed, what it read."""
    ends = [
        ("stopped:", f"{plain_id(result.stopped)}: {MEANINGS[result.stopped]}"),
        ("at:", f"address {result.at:05x}h"),
    ]
    ends += [("after:", f"{result.instructions} instructions")]
    ends += [
        (
            "volume:",
            (
                "its boot sector was started"
                if result.started_volume
                else "no boot sector was started"
            ),
        )
    ]
    screen = [text(line) for line in result.screen] or [text("nothing", "soft")]
    cells = [(read.lba, read.sectors, f"{read.to:05x}h", read.by) for read in result.reads[:_SHOWN]]
    more = (
        [text(f"and {len(result.reads) - _SHOWN} more reads", "soft")]
        if len(result.reads) > _SHOWN
        else []
    )
    reads = (
        [rows(cells, ("sector", "count", "to", "by"), wide=3, right=(0, 1))]
        if cells
        else [text("nothing", "soft")]
    )
    return Group(
        title(named_target(result.path, named)),
        rows(ends),
        title("screen"),
        indented(*screen),
        title("read from the disk"),
        indented(*reads, *more),
    )
