"""A rehearsal as a person reads it."""

from rich.console import Group, RenderableType

from mending.boot.rehearse import MEANINGS, RehearsalResult
from mending.cli.show.console import indented, named_target, plain_id, rows, text, title

_SHOWN = 12


def show_rehearsal(result: RehearsalResult, named: str) -> RenderableType:
    """Where it stopped, what it printed, what it read."""
    ends = [
        ("stopped:", f"{plain_id(result.stopped)}: {MEANINGS[result.stopped]}"),
        ("at:", f"address {result.at:05x}h"),
    ]
    ends += [("after:", f"{result.instructions} instructions")]
    ends += [
        (
            "volume:",
            (
                "its boot sector was started"
                if result.started_volume
                else "no boot sector was started"
            ),
        )
    ]
    screen = [text(line) for line in result.screen] or [text("nothing", "soft")]
    cells = [(read.lba, read.sectors, f"{read.to:05x}h", read.by) for read in result.reads[:_SHOWN]]
    more = (
        [text(f"and {len(result.reads) - _SHOWN} more reads", "soft")]
        if len(result.reads) > _SHOWN
        else []
    )
    reads = (
        [rows(cells, ("sector", "count", "to", "by"), wide=3, right=(0, 1))]
        if cells
        else [text("nothing", "soft")]
    )
    return Group(
        title(named_target(result.path, named)),
        rows(ends),
        title("screen"),
        indented(*screen),
        title("read from the disk"),
        indented(*reads, *more),
    )
