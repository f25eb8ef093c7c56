"""The disk map in the terminal: a ribbon to scale, and under it where its parts begin."""

from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.text import Text

from mending.cli.show.console import size, text
from mending.disk.scan import DiskMap
from mending.report.figures.ribbon import Box, lay_out

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
