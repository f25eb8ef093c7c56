"""Crashes as a person reads them."""

from collections import Counter

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, plain_id, rows, size, text, title
from mending.cli.show.timelines import in_short, timeline_parts
from mending.crash import CrashesResult, CrashResult

_MOST, _CALLS, _MODULES = 12, 8, 4


def show_crashes(result: CrashesResult) -> RenderableType:
    """How much was read, each crash with what it means, then how starts ended, when failing began and with what."""
    files = f"{len(result.files)} {'file' if len(result.files) == 1 else 'files'}, {size(result.bytes)}"
    if not result.crashes:
        return Group(
            text(f"No crash is written down in {files}.", "dim"), text(""), *in_short(result), *timeline_parts(result)
        )
    count = f"{len(result.crashes)} {'crash' if len(result.crashes) == 1 else 'crashes'} written down"
    parts: list[RenderableType] = [text(f"{count} in {files}", "dim"), text(""), *in_short(result)]
    bare = [one for one in result.crashes if one.at and not (one.modules or one.trace or one.symbol or one.seconds)]
    told = [one for one in result.crashes if one not in bare] if len(bare) > 1 else list(result.crashes)
    for one in told[:_MOST]:
        parts += [title(_title(one)), indented(rows(_cells(one))), text("")]
    left = len(told) - _MOST
    parts += [text(f"and {left} more; --json has all of them"), text("")] if left > 0 else []
    if len(bare) > 1:
        parts += [title("crashes without a dump"), indented(rows(_counted(bare))), text("")]
    return Group(*parts, *timeline_parts(result))


def _title(one: CrashResult) -> str:
    return one.headline if one.kind == "stop-code" else f"{plain_id(one.kind)}: {one.headline}"


def _counted(crashes: list[CrashResult]) -> list[tuple[object, ...]]:
    """How often each code came, the most frequent first, and what it means."""
    counts = Counter((one.code, one.name, one.headline, one.says) for one in crashes)
    return [
        (f"{count} x", " ".join(part for part in (code, name) if part) or headline, says)
        for (code, name, headline, says), count in counts.most_common(_MOST)
    ]


def _cells(one: CrashResult) -> list[tuple[object, ...]]:
    when = f", {one.seconds:.1f} s after the kernel began" if one.seconds is not None else ""
    where = f"{one.file}, line {one.line}{when}" if one.line else one.file
    cells: list[tuple[object, ...]] = [("where", where)]
    ran = f", {one.uptime_seconds / 60:.0f} minutes after the start" if one.uptime_seconds is not None else ""
    cells += [("when", f"{one.at}{ran}")] if one.at else []
    cells += [("name", one.name)] if one.name else []
    cells += [("before", one.reason)] if one.reason else []
    cells += [("means", one.says)] if one.says else []
    cells += [("with", sentence) for sentence in one.parameters]
    cells += [("points at", f"{module.name}: {module.why}") for module in one.modules[:_MODULES]]
    cells += [("stops at", plain_id(one.phase))] if one.phase else []
    outright = "" if one.modules else one.module
    place = f"{one.symbol} of the module {one.module}" if one.module and one.symbol else one.symbol or outright
    cells += [("in", place)] if place else []
    who = f"{one.program}, kernel {one.version}" if one.program else one.version
    cells += [("during" if one.program else "system", who)] if who else []
    cells += [("dump" if one.kind == "stop-code" else "kernel", sentence) for sentence in one.marks]
    cells += [("called by", " < ".join(one.trace[:_CALLS]))] if one.trace else []
    return [*cells, ("look at", ", ".join(plain_id(name) for name in one.suspects))]
