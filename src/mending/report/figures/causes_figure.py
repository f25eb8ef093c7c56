"""What is believed of the causes, as a picture: a bar for each now, and a line for each over the
evidence that came in.
"""

from collections.abc import Sequence
from math import nan
from typing import Any

from mending.case.turns import Turn
from mending.reason import CausesResult
from mending.report.figures.canvas import INK, drawn, wrapped

_PALE = "#9aa3a8"
_LOOKS = (
    ("#3d6d8f", "-", "o"),
    ("#b4652f", "--", "s"),
    ("#4a7f5f", "-.", "^"),
    ("#7d5a94", ":", "D"),
    ("#6b6f73", "-", "x"),
)
"""Colour, line and mark of each cause: told apart without seeing colours, too."""
_MOST, _LEAST = len(_LOOKS), 0.01
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
    shown = [cause for cause in causes.causes if cause.chance >= _LEAST][:_MOST]
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
    for place, chance, (colour, _, _) in zip(places, chances, _LOOKS, strict=False):
        axis.barh(place, chance, 0.62, color=colour)
        axis.text(chance + 0.01, place, f"{chance:.0%}", va="center", color=INK)
    axis.set_title("what is believed now", loc="left", fontsize=10, color=INK)
    axis.set_yticks(places, names, color=INK)
    axis.tick_params(axis="y", length=0)
    _percent(axis.set_xlim, axis.set_xticks)
    _plain(axis)


def _lines(axis: Any, names: Sequence[str], turns: Sequence[Turn]) -> None:
    steps = list(range(len(turns)))
    for name, (colour, line, mark) in zip(names, _LOOKS, strict=False):
        chances = [turn.chances.get(name, nan) for turn in turns]
        axis.plot(steps, chances, line, marker=mark, color=colour, label=name, markersize=4)
    words = [
        wrapped(f"{number} {turn.what}", _LETTERS, _LINES) for number, turn in enumerate(turns, 1)
    ]
    axis.set_xticks(steps, words, rotation=40, ha="right", rotation_mode="anchor", fontsize=7)
    axis.set_title("after each piece of evidence", loc="left", fontsize=10, color=INK)
    _percent(axis.set_ylim, axis.set_yticks)
    axis.grid(axis="y", color=_PALE, linewidth=0.4)
    axis.legend(frameon=False, fontsize=8, loc="center left", bbox_to_anchor=(1.0, 0.5))
    _plain(axis)


def _percent(limits: Any, ticks: Any) -> None:
    limits(0, 1.08)
    ticks([0, 0.25, 0.5, 0.75, 1.0], ["0 %", "25 %", "50 %", "75 %", "100 %"])


def _plain(axis: Any) -> None:
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)
