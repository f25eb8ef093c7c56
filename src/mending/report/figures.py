"""Where the stretches of a disk map go on a ribbon: to scale, but nothing narrower than can be
read.
"""

import io
import textwrap
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from math import nan
from pathlib import Path
from typing import Any

import msgspec

from mending.case.reasoning import Turn
from mending.crash.results import CrashesResult, StartResult
from mending.disk.scan import DiskMap, Stretch
from mending.model import UsageError, clean_text, load_extra, plain_size
from mending.plan import PlanResult, VisitResult
from mending.reason import CausesResult


class Box(msgspec.Struct, frozen=True):
    """One stretch on the ribbon, from `left` to `right` in the units of its width; `lane` is 0 but
    for overlaps.
    """

    stretch: Stretch
    left: float
    right: float
    lane: int


def lay_out(disk: DiskMap, width: float, least: Mapping[str, float]) -> tuple[Box, ...]:
    """A box for every stretch.

    Args:
        width: of the whole ribbon.
        least: width below which a kind of stretch cannot be read; what is left over is shared to
            scale.
    """
    clipped = [
        (stretch, max(stretch.start, 0), min(stretch.start + stretch.sectors, disk.sectors))
        for stretch in disk.stretches
    ]
    shown = [(stretch, start, end) for stretch, start, end in clipped if start < end]
    edges = sorted(
        {0, disk.sectors, *(start for _, start, _ in shown), *(end for _, _, end in shown)}
    )
    pieces = list(pairwise(edges))
    wanted = [
        max(
            (_need(stretch, start, end, piece, least) for stretch, start, end in shown), default=0.0
        )
        for piece in pieces
    ]
    places = [0.0]
    for size in to_scale([end - start for start, end in pieces], wanted, width):
        places.append(places[-1] + size)
    at = dict(zip(edges, places, strict=True))
    lanes: list[int] = []
    boxes = []
    for stretch, start, end in shown:
        lane = next((number for number, last in enumerate(lanes) if last <= start), len(lanes))
        lanes[lane : lane + 1] = [end]
        boxes.append(Box(stretch, at[start], at[end], lane))
    return tuple(boxes)


def to_scale(lengths: Sequence[float], least: Sequence[float], width: float) -> list[float]:
    """Widths that add up to `width`, in proportion to the lengths, and none below its least as far
    as there is room.
    """
    room = min(1.0, width / sum(least)) if sum(least) else 1.0
    floor = [share * room for share in least]
    fixed: set[int] = set()
    while True:
        rest = [number for number in range(len(lengths)) if number not in fixed]
        left = width - sum(floor[number] for number in fixed)
        total = sum(lengths[number] for number in rest)
        scale = left / total if total else 0.0
        narrow = {number for number in rest if lengths[number] * scale < floor[number]}
        if not narrow:
            return [
                floor[at] if at in fixed else length * scale for at, length in enumerate(lengths)
            ]
        fixed |= narrow


def _need(
    stretch: Stretch, start: int, end: int, piece: tuple[int, int], least: Mapping[str, float]
) -> float:
    """What a stretch needs of a piece of the ribbon that it covers; its need is shared by length
    among its pieces.
    """
    if not start <= piece[0] < piece[1] <= end:
        return 0.0
    return least.get(stretch.kind, 0.0) * (piece[1] - piece[0]) / (end - start)


# The sheet that every figure is drawn on: its title, its words, and what comes out as bytes.
#
# Nothing here opens a file: a figure is bytes, and whoever asked for it puts them where they go.


FORMATS = (".png", ".svg", ".pdf")
INK = "#2b3338"
_INCH, _TITLE = 72.0, 24.0
"""Points of an inch, and the height of the title in points."""


def figure_kind(path: Path) -> str:
    """The format that a file's ending stands for.

    Raises:
        UsageError: none that can be drawn.
    """
    ending = path.suffix.lower()
    if ending not in FORMATS:
        raise UsageError(
            f"{path} does not end in a format that can be drawn.", "Use .png, .svg or .pdf."
        )
    return ending.removeprefix(".")


def drawn(
    title: str, kind: str, size: tuple[float, float], rows: int, fill: Callable[[Any, Any], None]
) -> bytes:
    """A figure in a format.

    Args:
        title: what it is of; stands above it.
        kind: `png`, `svg` or `pdf`.
        size: width and height in inches, without the title.
        rows: panels, one below the other.
        fill: is given the figure and its panels, and draws.

    Raises:
        UsageError: the extra `figures` is not installed.
    """
    load_extra("matplotlib", "figures").use("Agg")
    plots = load_extra("matplotlib.pyplot", "figures")
    width, height = size
    height += _TITLE / _INCH
    looks = {
        "svg.hashsalt": "mending",
        "svg.fonttype": "none",
        "hatch.linewidth": 0.5,
        "font.size": 9,
    }
    held = io.BytesIO()
    with plots.rc_context(looks):
        figure, axes = plots.subplots(
            rows, 1, figsize=(width, height), squeeze=False, layout="constrained"
        )
        figure.get_layout_engine().set(rect=(0, 0, 1, 1 - _TITLE / _INCH / height))
        figure.text(
            0.01, 1 - 6 / _INCH / height, plain(title), va="top", fontsize=11, color=INK, wrap=True
        )
        fill(figure, axes[:, 0])
        metadata = {"Date": None} if kind == "svg" else None
        figure.savefig(held, format=kind, metadata=metadata, dpi=120)
        plots.close(figure)
    return held.getvalue()


def plain(words: str) -> str:
    """Words of a case as a label: clean, and without a dollar sign, which would begin a formula."""
    return clean_text(words).replace("$", r"\$")


def wrapped(words: str, letters: int, lines: int) -> str:
    """A label in lines of so many letters; what does not go into so many lines ends in dots."""
    kept = textwrap.wrap(
        plain(words), letters, max_lines=lines, placeholder=" …", break_on_hyphens=False
    )
    return "\n".join(kept)


# The disk map as a picture, one ribbon for each state of the disk, with Matplotlib.


_WIDTH = 1000.0
_LEAST = {"table": 14.0, "gap": 40.0, "volume": 105.0, "unlisted": 105.0}
_LOOKS: dict[str, dict[str, Any]] = {
    "table": {"facecolor": "#5b6770", "hatch": None},
    "volume": {"facecolor": "#a9cfc4", "hatch": None},
    "unlisted": {"facecolor": "#f3d9a4", "hatch": "//"},
    "gap": {"facecolor": "#ffffff", "hatch": ".."},
}
_WORDS = {
    "table": "partition table",
    "volume": "listed volume",
    "unlisted": "volume that no table lists",
    "gap": "free",
}
_LINE, _PALE = "#2b3338", "#9aa3a8"


def disk_picture(maps: Sequence[tuple[str, DiskMap]], kind: str, title: str) -> bytes:
    """Ribbons, each under its own title, for instance before and after a repair.

    Args:
        kind: and `title`: as of `canvas.drawn`, which also tells what is raised.
    """

    def fill(figure: Any, axes: Sequence[Any]) -> None:
        plots = load_extra("matplotlib.pyplot", "figures")
        for (name, disk), axis in zip(maps, axes, strict=True):
            _ribbon(plots, axis, name, disk)
        kinds = [
            kind
            for kind in _LOOKS
            if any(stretch.kind == kind for _, disk in maps for stretch in disk.stretches)
        ]
        handles = [plots.Rectangle((0, 0), 1, 1, edgecolor=_LINE, **_LOOKS[kind]) for kind in kinds]
        words = [_WORDS[kind] for kind in kinds]
        figure.legend(handles, words, loc="outside lower center", ncols=len(kinds), frameon=False)

    return drawn(f"{title}: disk", kind, (11, 2.1 * len(maps) + 0.5), len(maps), fill)


def _ribbon(plots: Any, axis: Any, title: str, disk: DiskMap) -> None:
    boxes = lay_out(disk, _WIDTH, _LEAST)
    lanes = 1 + max((box.lane for box in boxes), default=0)
    for box in boxes:
        bottom = lanes - 1 - box.lane
        shape = plots.Rectangle(
            (box.left, bottom),
            box.right - box.left,
            0.92,
            edgecolor=_LINE,
            **_LOOKS[box.stretch.kind],
        )
        axis.add_patch(shape)
        axis.text(
            (box.left + box.right) / 2,
            bottom + 0.46,
            _words(box, disk.sector),
            ha="center",
            va="center",
            rotation=90 if box.stretch.kind == "table" else 0,
            fontsize=8 if box.stretch.kind != "table" else 6,
            color="white" if box.stretch.kind == "table" else _LINE,
            clip_on=True,
            bbox=(
                {"facecolor": "white", "edgecolor": "none", "pad": 1.5, "alpha": 0.85}
                if box.stretch.kind in {"gap", "unlisted"}
                else None
            ),
        )
    _scale(axis, boxes, disk)
    axis.set_title(title, loc="left", fontsize=10, color=_LINE)
    axis.set_xlim(-2, _WIDTH + 2)
    axis.set_ylim(-0.05, lanes)
    axis.set_yticks([])
    for side in ("left", "right", "top", "bottom"):
        axis.spines[side].set_visible(False)


def _scale(axis: Any, boxes: Sequence[Box], disk: DiskMap) -> None:
    """Where boxes begin, in plain sizes, as far as the numbers do not run into each other."""
    marks: list[tuple[float, str]] = []
    starts = {(box.left, box.stretch.start) for box in boxes if box.stretch.kind != "table"}
    edges = {start for start in starts if _WIDTH - start[0] > 62} | {(_WIDTH, disk.sectors)}
    for left, start in sorted(edges):
        if not marks or left - marks[-1][0] > 62:
            marks.append((left, plain_size(start * disk.sector)))
    axis.set_xticks(
        [left for left, _ in marks], [words for _, words in marks], fontsize=7, color=_LINE
    )
    axis.tick_params(axis="x", length=3, color=_PALE)


def _words(box: Box, sector: int) -> str:
    stretch: Stretch = box.stretch
    if stretch.kind == "table":
        return "table"
    length = plain_size(stretch.sectors * sector)
    if stretch.kind == "gap":
        return length
    name = (
        f"{stretch.number}  {stretch.filesystem}"
        if stretch.number is not None
        else stretch.filesystem
    )
    label = stretch.label if len(stretch.label) <= 16 else f"{stretch.label[:15]}…"
    return "\n".join(part for part in (name, label, length) if part)


# The history of a PC as a picture: days across, hours up, a bar for each run, changes and onset
# over them.


_BAR = {
    "clean": "#a9cfc4",
    "crash": "#c96a55",
    "unclean": "#e0a468",
    "by-hand": "#d8cf9e",
    "unknown": "#c9ced2",
    "running": "#7fa8c9",
}
_TIMELINE_FIGURE_WORDS = {
    "clean": "ended as it should",
    "crash": "ended in a crash",
    "unclean": "not shut down",
    "by-hand": "switched off by hand",
    "unknown": "end not known",
    "running": "runs to the end of the records",
}
_INK, _TIMELINE_FIGURE_PALE, _BAND, _POINT = "#2b3338", "#9aa3a8", "#f3e3b8", "#3d6d8f"
_MOST_CHANGES, _MOST_RUNS = 8, 4000
_LABEL, _A_LINE = 60, 2
"""Letters of the name of a change, and names in a line."""


def timeline_picture(result: CrashesResult, kind: str, title: str) -> bytes:
    """Runs, failures, changes and restore points.

    Args:
        kind: and `title`: as of `canvas.drawn`, which also tells what is raised.
    """

    def fill(figure: Any, axes: Sequence[Any]) -> None:
        _runs(axes[0], result.starts[-_MOST_RUNS:])
        _onset(axes[0], result)
        _changes(axes[0], result)
        _points(axes[0], result)
        _frame(figure, axes[0], result)

    lines = -(-len(result.suspects[:_MOST_CHANGES]) // _A_LINE)
    return drawn(f"{title}: history", kind, (11, 5.4 + 0.18 * lines), 1, fill)


def _runs(axis: Any, starts: tuple[StartResult, ...]) -> None:
    """A bar for each run, cut at midnight; a cross where it ended badly."""
    named: set[str] = set()
    for start in starts:
        for day, low, high in _pieces(_time(start.at), start.minutes):
            label = _TIMELINE_FIGURE_WORDS[start.ended] if start.ended not in named else None
            named.add(start.ended)
            axis.bar(
                day,
                max(high - low, 0.05),
                0.8,
                low,
                color=_BAR[start.ended],
                linewidth=0,
                label=label,
                zorder=3,
            )
        if start.ended in {"crash", "unclean"}:
            end = _time(start.at) + timedelta(minutes=start.minutes)
            axis.plot(
                _noon(end), _hour(end), "x", color=_INK, markersize=4, markeredgewidth=0.9, zorder=4
            )


def _pieces(start: datetime, minutes: float) -> Iterator[tuple[datetime, float, float]]:
    end = start + timedelta(minutes=minutes)
    while start < end or minutes == 0:
        midnight = start.replace(hour=0, minute=0, second=0) + timedelta(days=1)
        until = min(midnight, end)
        yield _noon(start), _hour(start), 24.0 if until == midnight else _hour(until)
        if until == end:
            return
        start = midnight


def _onset(axis: Any, result: CrashesResult) -> None:
    if result.onset is not None:
        start, end = _time(result.onset.from_), _time(result.onset.to)
        axis.axvspan(
            start,
            max(end, start + timedelta(hours=4)),
            color=_BAND,
            zorder=1,
            label="failing began in here",
        )


def _changes(axis: Any, result: CrashesResult) -> None:
    """A line for each change, numbered; the names stand under the picture."""
    shown = sorted(result.suspects[:_MOST_CHANGES], key=lambda suspect: suspect.at)
    for number, suspect in enumerate(shown, 1):
        at = _time(suspect.at)
        axis.axvline(
            at,
            color=_INK if suspect.blamed else _TIMELINE_FIGURE_PALE,
            linewidth=1.6 if suspect.blamed else 0.9,
            zorder=2,
        )
        axis.annotate(
            str(number),
            (at, 24),
            xytext=(0, 3),
            textcoords="offset points",
            ha="center",
            fontsize=8,
            color=_INK,
            weight="bold" if suspect.blamed else "normal",
        )
    rows = [
        wrapped(f"{number} {suspect.change}{' (blamed)' if suspect.blamed else ''}", _LABEL, 1)
        for number, suspect in enumerate(shown, 1)
    ]
    columns = ["  ·  ".join(rows[at : at + _A_LINE]) for at in range(0, len(rows), _A_LINE)]
    if columns:
        axis.set_xlabel("\n".join(columns), fontsize=8, color=_INK, loc="left", labelpad=8)


def _points(axis: Any, result: CrashesResult) -> None:
    best = result.restore_point.id if result.restore_point else ""
    for chosen in (False, True):
        found = [point for point in result.restore_points if (point.id == best) == chosen]
        label = "restore point to go back to" if chosen else "other restore points"
        if found:
            axis.plot(
                [_time(point.at) for point in found],
                [0.45] * len(found),
                linestyle="",
                marker="^",
                markersize=9 if chosen else 6,
                markerfacecolor=_POINT if chosen else "white",
                markeredgecolor=_POINT,
                zorder=5,
                label=label,
            )


def _frame(figure: Any, axis: Any, result: CrashesResult) -> None:
    counts = sum(start.ended in {"crash", "unclean"} for start in result.starts)
    axis.set_title(
        f"{len(result.starts)} starts, {counts} failures in {result.hours:.0f} hours of running",
        loc="left",
        fontsize=10,
        color=_INK,
        pad=16,
    )
    axis.set_ylim(0, 24)
    axis.set_yticks(range(0, 25, 6), [f"{hour:02d}:00" for hour in range(0, 25, 6)])
    axis.set_ylabel("time of day, UTC", color=_INK)
    dates = load_extra("matplotlib.dates", "figures")
    axis.xaxis.set_major_formatter(dates.ConciseDateFormatter(axis.xaxis.get_major_locator()))
    axis.tick_params(colors=_INK, length=3)
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)
    if axis.get_legend_handles_labels()[0]:
        figure.legend(loc="outside lower center", ncols=3, frameon=False, fontsize=8)


def _time(words: str) -> datetime:
    return datetime.fromisoformat(words).astimezone(UTC)


def _noon(at: datetime) -> datetime:
    """The middle of a day's column."""
    return at.replace(hour=12, minute=0, second=0, microsecond=0)


def _hour(at: datetime) -> float:
    return at.hour + at.minute / 60 + at.second / 3600


# What is believed of the causes, as a picture: a bar for each now, and a line for each over the
# evidence that came in.


_CAUSES_FIGURE_PALE = "#9aa3a8"
_CAUSES_FIGURE_LOOKS = (
    ("#3d6d8f", "-", "o"),
    ("#b4652f", "--", "s"),
    ("#4a7f5f", "-.", "^"),
    ("#7d5a94", ":", "D"),
    ("#6b6f73", "-", "x"),
)
"""Colour, line and mark of each cause: told apart without seeing colours, too."""
_MOST, _CAUSES_FIGURE_LEAST = len(_CAUSES_FIGURE_LOOKS), 0.01
"""Causes that are drawn, and from which chance on."""
_LETTERS, _LINES = 26, 4
"""Of a piece of evidence: letters of a line, and lines."""
_PANEL, _LABELS = 2.6, 1.4
"""Inches of a panel, and of the labels below it."""


def causes_picture(causes: CausesResult, turns: Sequence[Turn], kind: str, title: str) -> bytes:
    """The causes as bars and, where there is more than one piece of evidence, as lines over it.

    Args:
        kind: and `title`: as of `canvas.drawn`, which also tells what is raised.
    """
    shown = [cause for cause in causes.causes if cause.chance >= _CAUSES_FIGURE_LEAST][:_MOST]
    names = [cause.id for cause in shown]
    both = len(turns) > 1

    def fill(_: Any, axes: Sequence[Any]) -> None:
        _bars(axes[0], names, [cause.chance for cause in shown])
        if both:
            _lines(axes[1], names, turns)

    width = max(10.0, 0.85 * len(turns) + 3) if both else 10.0
    height = 2 * _PANEL + _LABELS if both else _PANEL
    return drawn(f"{title}: causes", kind, (min(width, 24.0), height), 2 if both else 1, fill)


def _bars(axis: Any, names: Sequence[str], chances: Sequence[float]) -> None:
    places = list(range(len(names)))[::-1]
    for place, chance, (colour, _, _) in zip(places, chances, _CAUSES_FIGURE_LOOKS, strict=False):
        axis.barh(place, chance, 0.62, color=colour)
        axis.text(chance + 0.01, place, f"{chance:.0%}", va="center", color=INK)
    axis.set_title("what is believed now", loc="left", fontsize=10, color=INK)
    axis.set_yticks(places, names, color=INK)
    axis.tick_params(axis="y", length=0)
    _percent(axis.set_xlim, axis.set_xticks)
    _plain(axis)


def _lines(axis: Any, names: Sequence[str], turns: Sequence[Turn]) -> None:
    steps = list(range(len(turns)))
    for name, (colour, line, mark) in zip(names, _CAUSES_FIGURE_LOOKS, strict=False):
        chances = [turn.chances.get(name, nan) for turn in turns]
        axis.plot(steps, chances, line, marker=mark, color=colour, label=name, markersize=4)
    words = [
        wrapped(f"{number} {turn.what}", _LETTERS, _LINES) for number, turn in enumerate(turns, 1)
    ]
    axis.set_xticks(steps, words, rotation=40, ha="right", rotation_mode="anchor", fontsize=7)
    axis.set_title("after each piece of evidence", loc="left", fontsize=10, color=INK)
    _percent(axis.set_ylim, axis.set_yticks)
    axis.grid(axis="y", color=_CAUSES_FIGURE_PALE, linewidth=0.4)
    axis.legend(frameon=False, fontsize=8, loc="center left", bbox_to_anchor=(1.0, 0.5))
    _plain(axis)


def _percent(limits: Any, ticks: Any) -> None:
    limits(0, 1.08)
    ticks([0, 0.25, 0.5, 0.75, 1.0], ["0 %", "25 %", "50 %", "75 %", "100 %"])


def _plain(axis: Any) -> None:
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)


# The chance of a working PC against minutes, as a picture: a stair over the visits of the plan.


_PLAN_FIGURE_LINE, _UNDER, _PLAN_FIGURE_INK, _PLAN_FIGURE_PALE = (
    "#3d6d8f",
    "#dbe8ef",
    "#2b3338",
    "#9aa3a8",
)
_BANDS = ("#f4f1e6", "#fbfaf5")
_MARKS = (30, 60, 120)
_BEYOND = 1.12
"""The picture goes on a little behind the last thing that happens."""
_NARROW = 0.025
"""The number of a visit that is narrower than this share of the picture stands a line higher than
that of the one before.
"""
_PLAN_FIGURE_LETTERS = 130
"""Letters of a line of names."""


def plan_picture(plan: PlanResult, kind: str, title: str) -> bytes:
    """The stair over the visits, from the first to the last.

    Args:
        kind: and `title`: as of `canvas.drawn`, which also tells what is raised.
    """
    spans = _spans(plan)
    ends = [*(point.minutes for point in plan.curve), *(end for _, end, _ in spans), 30.0]
    width = max(ends) * _BEYOND
    names = _names(plan)

    def fill(_: Any, axes: Sequence[Any]) -> None:
        _visits(axes[0], spans, width)
        _stair(axes[0], plan, width)
        _plan_figure_frame(axes[0], plan, width, names)

    return drawn(f"{title}: plan", kind, (10, 4.8 + 0.16 * len(names)), 1, fill)


def _names(plan: PlanResult) -> list[str]:
    """Every visit by number, place and steps, a line each."""
    return [
        wrapped(
            f"{number} {visit.place}: {', '.join(step.id for step in visit.steps)}",
            _PLAN_FIGURE_LETTERS,
            2,
        )
        for number, visit in enumerate(plan.visits, 1)
    ]


def _spans(plan: PlanResult) -> list[tuple[float, float, VisitResult]]:
    """When each visit begins and ends, if none before it helps."""
    clock, spans = 0.0, list[tuple[float, float, VisitResult]]()
    for visit in plan.visits:
        minutes = visit.minutes + sum(step.minutes for step in visit.steps)
        spans.append((clock, clock + minutes, visit))
        clock += minutes
    return spans


def _visits(axis: Any, spans: list[tuple[float, float, VisitResult]], width: float) -> None:
    line, last = 0, -width
    for number, (begin, end, _) in enumerate(spans, 1):
        axis.axvspan(begin, end, color=_BANDS[number % 2], linewidth=0, zorder=0)
        middle = (begin + end) / 2
        line = line + 1 if middle - last < _NARROW * width else 0
        axis.annotate(
            str(number),
            (middle, 1.0),
            xytext=(0, 3 + 10 * (line % 3)),
            textcoords="offset points",
            ha="center",
            va="bottom",
            color=_PLAN_FIGURE_INK,
            fontsize=8,
        )
        last = middle


def _stair(axis: Any, plan: PlanResult, width: float) -> None:
    drawn = [point for point in plan.curve if point.minutes < width]
    minutes = [*(point.minutes for point in drawn), width]
    chances = [*(point.chance for point in drawn), drawn[-1].chance]
    axis.fill_between(minutes, chances, step="post", color=_UNDER, linewidth=0, zorder=1)
    axis.step(minutes, chances, where="post", color=_PLAN_FIGURE_LINE, linewidth=2, zorder=3)
    for mark in _MARKS:
        if mark < width:
            chance = plan.chance_by[str(mark)]
            axis.plot([mark], [chance], "o", color=_PLAN_FIGURE_LINE, zorder=4)
            axis.annotate(
                f"{chance:.0%} by {mark} min",
                (mark, chance),
                xytext=(6, -13),
                textcoords="offset points",
                color=_PLAN_FIGURE_INK,
            )


def _plan_figure_frame(axis: Any, plan: PlanResult, width: float, names: Sequence[str]) -> None:
    axis.set_xlim(0, width)
    axis.set_ylim(0, 1)
    words = "\n".join(["minutes of work and waiting", *names])
    axis.set_xlabel(words, loc="left", fontsize=8, color=_PLAN_FIGURE_INK)
    axis.set_ylabel("chance that the PC works")
    axis.set_yticks([0, 0.25, 0.5, 0.75, 1.0], ["0 %", "25 %", "50 %", "75 %", "100 %"])
    axis.grid(axis="y", color=_PLAN_FIGURE_PALE, linewidth=0.4, zorder=2)
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)
    last = plan.curve[-1]
    rest = (
        f"expected: {plan.expected_minutes:.0f} min; {last.chance:.0%} at the end, after"
        f" {last.minutes:.0f} min"
    )
    axis.text(0.995, 0.02, rest, transform=axis.transAxes, ha="right", color=_PLAN_FIGURE_INK)
