"""The history of a PC as a picture: days across, hours up, a bar for each run, changes and onset
over them.
"""

from collections.abc import Iterator, Sequence
from datetime import UTC, datetime, timedelta
from typing import Any

from mending.crash.results import CrashesResult, StartResult
from mending.model import load_extra
from mending.report.figures.canvas import drawn, wrapped

_BAR = {
    "clean": "#a9cfc4",
    "crash": "#c96a55",
    "unclean": "#e0a468",
    "by-hand": "#d8cf9e",
    "unknown": "#c9ced2",
    "running": "#7fa8c9",
}
_WORDS = {
    "clean": "ended as it should",
    "crash": "ended in a crash",
    "unclean": "not shut down",
    "by-hand": "switched off by hand",
    "unknown": "end not known",
    "running": "runs to the end of the records",
}
_INK, _PALE, _BAND, _POINT = "#2b3338", "#9aa3a8", "#f3e3b8", "#3d6d8f"
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
            label = _WORDS[start.ended] if start.ended not in named else None
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
            color=_INK if suspect.blamed else _PALE,
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
