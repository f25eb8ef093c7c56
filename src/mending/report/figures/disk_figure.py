"""The disk map as a picture, one ribbon for each state of the disk, with Matplotlib."""

from collections.abc import Sequence
from typing import Any

from mending.disk.scan import DiskMap, Stretch
from mending.model import load_extra, plain_size
from mending.report.figures.canvas import drawn
from mending.report.figures.ribbon import Box, lay_out

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
