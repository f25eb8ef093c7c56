"""A search as a person reads it."""

from rich.console import Group, RenderableType

from mending.cli.show.console import named_target, rows, size, text, title
from mending.cli.show.maps import show_map
from mending.disk.scan import FoundResult, SearchResult


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
