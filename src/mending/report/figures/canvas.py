"""The sheet that every figure is drawn on: its title, its words, and what comes out as bytes.

Nothing here opens a file: a figure is bytes, and whoever asked for it puts them where they go.
"""

import io
import textwrap
from collections.abc import Callable
from pathlib import Path
from typing import Any

from mending.model import UsageError, clean_text, load_extra

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
