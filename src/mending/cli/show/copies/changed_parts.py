"""What a healthy copy has otherwise than the disk, as a person reads it."""

from rich.console import Group, RenderableType

from mending.boot.chain import ChangedPart
from mending.cli.show.console import indented, plain_id, rows, text, title

_PARTS = 24


def show_changed(parts: tuple[ChangedPart, ...]) -> RenderableType:
    """What a healthy copy has otherwise than the disk, in the order of starting."""
    heading = title("since the healthy copy")
    if not parts:
        return Group(heading, indented(text("Everything in it is as it was.", "good")))
    cells = [
        (
            plain_id(part.phase),
            part.path or f"{part.what}, offset {part.offset}",
            plain_id(part.state),
        )
        for part in parts[:_PARTS]
    ]
    more = (
        [text(f"and {len(parts) - _PARTS} more; --json has all of them")]
        if len(parts) > _PARTS
        else []
    )
    return Group(heading, indented(rows(cells, ("phase", "what", "now"), wide=1)), *more)
