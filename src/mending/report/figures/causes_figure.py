"""What is believed of the causes, as a picture: a bar for each now, and a line for each over the
evidence that came in.
"""

import io
from collections.abc import Sequence
from pathlib import Path
from typing import Any

from mending.case.turns import Turn
from mending.model import load_extra
from mending.reason import CausesResult

_INK, _PALE = "#2b3338", "#9aa3a8"
_LOOKS = (
    ("#3d6d8f", "-", "o"),
    ("#b4652f", "--", "s"),
    ("#4a7f5f", "-.", "^"),
    ("#7d5a94", ":", "D"),
    ("#6b6f73", "-", "x"),
)
"""Colour, line and mark of each cause: told apart without seeing colours, too."""
_MOST, _LEAST, _WORDS = len(_LOOKS), 0.01, 34
"""Causes that are drawn, from which chance on, and letters of a piece of evidence."""


def draw_causes(causes: CausesResult, turns: Sequence[Turn], path: Path) -> None:
    """Draw it and save it; the file's ending is the format.

    Raises:
        UsageError: the extra `figures` is not installed.
    """
    _draw(causes, turns, path, path.suffix.lower().removeprefix("."))


def causes_svg(causes: CausesResult, turns: Sequence[Turn]) -> bytes:
    """The same as SVG, to be put into a page. Raises as `draw_causes`."""
    held = io.BytesIO()
    _draw(causes, turns, held, "svg")
    return held.getvalue()


def _draw(causes: CausesResult, turns: Sequence[Turn], where: Path | io.BytesIO, kind: str) -> None:
    load_extra("matplotlib", "figures").use("Agg")
    plots = load_extra("matplotlib.pyplot", "figures")
    shown = [cause for cause in causes.causes if cause.chance >= _LEAST][:_MOST]
    names = [cause.id for cause in shown]
    with plots.rc_context(
        {"svg.hashsalt": "mending-causes", "svg.fonttype": "none", "font.size": 9}
    ):
        both = len(turns) > 1
        figure, axes = plots.subplots(
            2 if both else 1, 1, figsize=(10, 6.4 if both else 3.0), squeeze=False
        )
        _bars(axes[0][0], names, [cause.chance for cause in shown])
        if both:
            _lines(axes[1][0], names, turns)
        figure.tight_layout()
        metadata = {"Date": None} if kind == "svg" else None
        figure.savefig(where, format=kind, metadata=metadata, dpi=120)
        plots.close(figure)


def _bars(axis: Any, names: Sequence[str], chances: Sequence[float]) -> None:
    places = list(range(len(names)))[::-1]
    for place, name, chance, (colour, _, _) in zip(places, names, chances, _LOOKS, strict=False):
        axis.barh(place, chance, 0.62, color=colour)
        axis.text(chance + 0.01, place, f"{chance:.0%}", va="center", color=_INK)
        axis.text(-0.01, place, name, va="center", ha="right", color=_INK)
    axis.set_title("what is believed now", loc="left", fontsize=10, color=_INK)
    axis.set_yticks([])
    _percent(axis.set_xlim, axis.set_xticks)
    _plain(axis)


def _lines(axis: Any, names: Sequence[str], turns: Sequence[Turn]) -> None:
    steps = list(range(len(turns)))
    for name, (colour, line, mark) in zip(names, _LOOKS, strict=False):
        chances = [dict(turn.causes).get(name, 0.0) for turn in turns]
        axis.plot(steps, chances, line, marker=mark, color=colour, label=name, markersize=4)
    words = [_short(turn.what) for turn in turns]
    axis.set_xticks(steps, words, rotation=28, ha="right", fontsize=7, color=_INK)
    axis.set_title("after each piece of evidence", loc="left", fontsize=10, color=_INK)
    _percent(axis.set_ylim, axis.set_yticks)
    axis.grid(axis="y", color=_PALE, linewidth=0.4)
    axis.legend(frameon=False, fontsize=8, loc="center left", bbox_to_anchor=(1.0, 0.5))
    _plain(axis)


def _short(words: str) -> str:
    """A piece of evidence as a label; a dollar sign would begin a formula."""
    cut = words if len(words) <= _WORDS else f"{words[:_WORDS]}…"
    return cut.replace("$", r"\$")


def _percent(limits: Any, ticks: Any) -> None:
    limits(0, 1.08)
    ticks([0, 0.25, 0.5, 0.75, 1.0], ["0 %", "25 %", "50 %", "75 %", "100 %"])


def _plain(axis: Any) -> None:
    for side in ("top", "right"):
        axis.spines[side].set_visible(False)
