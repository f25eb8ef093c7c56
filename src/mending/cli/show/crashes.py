"""Crashes as a person reads them."""

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, plain_id, rows, size, text, title
from mending.crash import CrashesResult, CrashResult

_MOST, _CALLS = 12, 8


def show_crashes(result: CrashesResult) -> RenderableType:
    """How much was read, then each crash: what the kernel said, where, in whose name, and what it means."""
    logs = f"{len(result.files)} {'log' if len(result.files) == 1 else 'logs'}, {size(result.bytes)}"
    if not result.crashes:
        return text(f"No crash in {logs}.")
    count = f"{len(result.crashes)} {'crash' if len(result.crashes) == 1 else 'crashes'}"
    parts: list[RenderableType] = [text(f"{count} in {logs}", "dim"), text("")]
    for one in result.crashes[:_MOST]:
        parts += [title(f"{plain_id(one.kind)}: {one.headline}"), indented(rows(_cells(one))), text("")]
    left = len(result.crashes) - _MOST
    return Group(*parts, *([text(f"and {left} more; --json has all of them")] if left > 0 else []))


def _cells(one: CrashResult) -> list[tuple[object, ...]]:
    when = f", {one.seconds:.1f} s after the kernel began" if one.seconds is not None else ""
    cells: list[tuple[object, ...]] = [("where", f"{one.file}, line {one.line}{when}")]
    cells += [("before", one.reason)] if one.reason else []
    cells += [("means", one.says)] if one.says else []
    cells += [("stops at", plain_id(one.phase))] if one.phase else []
    place = f"{one.symbol} of the module {one.module}" if one.module and one.symbol else one.symbol or one.module
    cells += [("in", place)] if place else []
    who = f"{one.program}, kernel {one.version}" if one.program else one.version
    cells += [("during", who)] if who else []
    cells += [("kernel", sentence) for sentence in one.marks]
    cells += [("called by", " < ".join(one.trace[:_CALLS]))] if one.trace else []
    return [*cells, ("look at", ", ".join(plain_id(name) for name in one.suspects))]
