"""Healthy copies as a person reads them."""

from rich.console import Group, RenderableType

from mending.app.copies.keeping import KeepResult
from mending.cli.show.console import indented, named_target, plain_id, rows, size, text, title
from mending.model import Verdict, quoted

_MOST = 8


def show_keep(result: KeepResult, named: str) -> RenderableType:
    """What is in the copy, and what to do with it. Args: named: how the person named the target."""
    cells: list[tuple[object, ...]] = [
        ("copy", f"{result.copy} ({size(result.copy_bytes)})"),
        (
            "holds",
            f"{result.ranges} ranges of the disk and {result.files} files,"
            f" {size(result.bytes)} in all",
        ),
    ]
    if result.sums:
        cells.append(("sums only", f"{result.sums} files"))
    if result.private:
        says = f"it holds what is secret ({', '.join(result.private)}): keep it to yourself"
        cells.append(("take care", text(says, "warning")))
    for says in result.left_out[:_MOST]:
        cells.append(("left out", text(says, "warning")))
    if len(result.left_out) > _MOST:
        cells.append(("", f"and {len(result.left_out) - _MOST} more; --json has all of them"))
    if result.verdict != Verdict.NO_FAULT_FOUND:
        cells.append(
            ("take care", text(f"the trace of this PC says {plain_id(result.verdict)}.", "warning"))
        )
    target, copy = quoted(named), quoted(result.copy)
    return Group(
        title(named_target(result.target, named)),
        indented(rows(cells)),
        text(""),
        text(f"what changed later: mending trace {target} --against {copy}"),
        text(f"take parts from it: mending mend {target} --all --from {copy}"),
    )
