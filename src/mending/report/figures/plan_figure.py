"""The chance of a working PC against minutes, as a picture: a stair over the visits of the plan."""

import io
from pathlib import Path
from typing import Any

from mending.model import load_extra
from mending.plan import PlanResult, VisitResult

_LINE, _UNDER, _INK, _PALE = "#3d6d8f", "#dbe8ef", "#2b3338", "#9aa3a8"
_BANDS = ("#f4f1e6", "#fbfaf5")
_MARKS = (30, 60, 120)
_BEYOND = 1.12
"""The picture goes on a little behind the last thing that happens."""
_MOST = 240.0
"""Minutes that are drawn at most: what comes after half a day's work is told in words."""
_NARROW = 0.06
"""Visits narrower than this share of the picture have their number only."""


def draw_plan(plan: PlanResult, path: Path) -> None:
    """Draw it and save it; the file's ending is the format.

    Raises:
        UsageError: the extra `figures` is not installed.
    """
    _draw(plan, path, path.suffix.lower().removeprefix("."))


def plan_svg(plan: PlanResult) -> bytes:
    """The same as SVG, to be put into a page. Raises as `draw_plan`."""
    held = io.BytesIO()
    _draw(plan, held, "svg")
    return held.getvalue()


def _draw(plan: PlanResult, where: Path | io.BytesIO, kind: str) -> None:
    load_extra("matplotlib", "figures").use("Agg")
    plots = load_extra("matplotlib.pyplot", "figures")
    with plots.rc_context({"svg.hashsalt": "mending-plan", "svg.fonttype": "none", "font.size": 9}):
        figure, axis = plots.subplots(figsize=(10, 5.2))
        spans = _spans(plan)
        width = min(
            max([*(point.minutes for point in plan.curve), *(end for _, end, _ in spans), 30.0])
            * _BEYOND,
            _MOST,
        )
        _visits(axis, spans, width)
        _stair(axis, plan, width)
        _frame(axis, plan, width)
        figure.tight_layout()
        figure.savefig(
            where, format=kind, metadata={"Date": None} if kind == "svg" else None, dpi=120
        )
        plots.close(figure)


def _spans(plan: PlanResult) -> list[tuple[float, float, VisitResult]]:
    """When each visit begins and ends, if none before it helps."""
    clock, spans = 0.0, list[tuple[float, float, VisitResult]]()
    for visit in plan.visits:
        minutes = visit.minutes + sum(step.minutes for step in visit.steps)
        spans.append((clock, clock + minutes, visit))
        clock += minutes
    return spans


def _visits(axis: Any, spans: list[tuple[float, float, VisitResult]], width: float) -> None:
    for number, (begin, end, visit) in enumerate(
        ((low, min(high, width), visit) for low, high, visit in spans), 1
    ):
        if begin >= width:
            return
        axis.axvspan(begin, end, color=_BANDS[number % 2], linewidth=0, zorder=0)
        place = str(visit.place).replace("-", "\n")
        words = f"{number}\n{place}" if end - begin > _NARROW * width else str(number)
        axis.text(
            (begin + end) / 2,
            1.015,
            words,
            ha="center",
            va="bottom",
            color=_INK,
            fontsize=8,
            linespacing=1.1,
        )


def _stair(axis: Any, plan: PlanResult, width: float) -> None:
    drawn = [point for point in plan.curve if point.minutes < width]
    minutes = [*(point.minutes for point in drawn), width]
    chances = [*(point.chance for point in drawn), drawn[-1].chance]
    axis.fill_between(minutes, chances, step="post", color=_UNDER, linewidth=0, zorder=1)
    axis.step(minutes, chances, where="post", color=_LINE, linewidth=2, zorder=3)
    for mark in _MARKS:
        if mark < width:
            chance = plan.chance_by[str(mark)]
            axis.plot([mark], [chance], "o", color=_LINE, zorder=4)
            axis.annotate(
                f"{chance:.0%} by {mark} min",
                (mark, chance),
                xytext=(6, -13),
                textcoords="offset points",
                color=_INK,
            )


def _frame(axis: Any, plan: PlanResult, width: float) -> None:
    axis.set_xlim(0, width)
    axis.set_ylim(0, 1)
    axis.set_xlabel("minutes of work and waiting")
    axis.set_ylabel("chance that the PC works")
    axis.set_yticks([0, 0.25, 0.5, 0.75, 1.0], ["0 %", "25 %", "50 %", "75 %", "100 %"])
    axis.grid(axis="y", color=_PALE, linewidth=0.4, zorder=2)
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)
    last = plan.curve[-1]
    rest = (
        f"expected: {plan.expected_minutes:.0f} min; {last.chance:.0%} at the end, after"
        f" {last.minutes:.0f} min"
    )
    axis.text(0.995, 0.02, rest, transform=axis.transAxes, ha="right", color=_INK)
