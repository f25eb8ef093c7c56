"""The chance of a working PC against minutes, as a picture: a stair over the visits of the plan."""

from collections.abc import Sequence
from typing import Any

from mending.plan import PlanResult, VisitResult
from mending.report.figures.canvas import drawn, wrapped

_LINE, _UNDER, _INK, _PALE = "#3d6d8f", "#dbe8ef", "#2b3338", "#9aa3a8"
_BANDS = ("#f4f1e6", "#fbfaf5")
_MARKS = (30, 60, 120)
_BEYOND = 1.12
"""The picture goes on a little behind the last thing that happens."""
_NARROW = 0.025
"""The number of a visit that is narrower than this share of the picture stands a line higher than
that of the one before.
"""
_LETTERS = 130
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
        _frame(axes[0], plan, width, names)

    return drawn(f"{title}: plan", kind, (10, 4.8 + 0.16 * len(names)), 1, fill)


def _names(plan: PlanResult) -> list[str]:
    """Every visit by number, place and steps, a line each."""
    return [
        wrapped(
            f"{number} {visit.place}: {', '.join(step.id for step in visit.steps)}", _LETTERS, 2
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
            color=_INK,
            fontsize=8,
        )
        last = middle


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


def _frame(axis: Any, plan: PlanResult, width: float, names: Sequence[str]) -> None:
    axis.set_xlim(0, width)
    axis.set_ylim(0, 1)
    words = "\n".join(["minutes of work and waiting", *names])
    axis.set_xlabel(words, loc="left", fontsize=8, color=_INK)
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
