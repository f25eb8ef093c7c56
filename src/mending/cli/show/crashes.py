"""Crashes as a person reads them."""

from collections import Counter

from rich.console import Group, RenderableType

from mending.cli.show.console import indented, plain_id, rows, size, text, title
from mending.cli.show.timelines import in_short, timeline_parts
from mending.crash.results import CrashesResult, CrashResult

_MOST, _CALLS, _MODULES = 12, 8, 4


def show_crashes(result: CrashesResult) -> RenderableType:
    """How much was read, each crash with what it means, then how starts ended, when failing began
    and with what.
    """
    files = (
        f"{len(result.files)} {'file' if len(result.files) == 1 else 'files'}, {size(result.bytes)}"
    )
    if not result.crashes:
        return Group(
            text(f"No crash is written down in {files}.", "soft"),
            text(""),
            *in_short(result),
            *timeline_parts(result),
        )
    count = (
        f"{len(result.crashes)} {'crash' if len(result.crashes) == 1 else 'crashes'} written down"
    )
    if result.written > len(result.crashes):
        count = f"{count}, {result.written} times"
    parts: list[RenderableType] = [text(f"{count} in {files}", "soft"), text(""), *in_short(result)]
    bare = [
        crash
        for crash in result.crashes
        if crash.at and not (crash.modules or crash.trace or crash.symbol or crash.seconds)
    ]
    told = (
        [crash for crash in result.crashes if crash not in bare]
        if len(bare) > 1
        else list(result.crashes)
    )
    kinds = _by_kind(told)
    for same in kinds[:_MOST]:
        count = f"{len(same)} x " if len(same) > 1 else ""
        parts += [title(f"{count}{_title(same[-1])}"), indented(rows(_cells(same))), text("")]
    left = len(kinds) - _MOST
    says = f"and {left} more kinds; --json has all of them"
    parts += [text(says), text("")] if left > 0 else []
    if len(bare) > 1:
        parts += [title("crashes without a dump"), indented(rows(_counted(bare))), text("")]
    return Group(*parts, *timeline_parts(result))


def _by_kind(crashes: list[CrashResult]) -> list[list[CrashResult]]:
    """Crashes that show themselves the same way, in the order of time; the most frequent kind
    first.
    """
    kinds: dict[tuple[object, ...], list[CrashResult]] = {}
    for crash in crashes:
        key = (crash.kind, crash.headline, crash.code, crash.symbol, crash.module, crash.phase)
        kinds.setdefault(key, []).append(crash)
    for same in kinds.values():
        same.sort(key=lambda crash: crash.at or "")
    return sorted(kinds.values(), key=lambda same: -len(same))


def _title(crash: CrashResult) -> str:
    return (
        crash.headline if crash.kind == "stop-code" else f"{plain_id(crash.kind)}: {crash.headline}"
    )


def _counted(crashes: list[CrashResult]) -> list[tuple[object, ...]]:
    """How often each code came, the most frequent first, and what it means."""
    counts = Counter((crash.code, crash.name, crash.headline, crash.says) for crash in crashes)
    return [
        (f"{count} x", " ".join(part for part in (code, name) if part) or headline, says)
        for (code, name, headline, says), count in counts.most_common(_MOST)
    ]


def _cells(same: list[CrashResult]) -> list[tuple[object, ...]]:
    """What is known of a kind, by the newest of its crashes."""
    crash = same[-1]
    when = f", {crash.seconds:.1f} s after the kernel began" if crash.seconds is not None else ""
    where = f"{crash.file}, line {crash.line}{when}" if crash.line else crash.file
    cells: list[tuple[object, ...]] = [("where", where)]
    ran = (
        f", {crash.uptime_seconds / 60:.0f} minutes after the start"
        if crash.uptime_seconds is not None
        else ""
    )
    cells += [("also in", ", ".join(crash.also))] if crash.also else []
    if len(same) > 1 and same[0].at:
        cells[0] = ("newest", where)
        cells.append(("when", f"from {same[0].at} to {crash.at}"))
    else:
        cells += [("when", f"{crash.at}{ran}")] if crash.at else []
    cells += [("name", crash.name)] if crash.name else []
    cells += [("before", crash.reason)] if crash.reason else []
    cells += [("means", crash.says)] if crash.says else []
    cells += [("with", sentence) for sentence in crash.parameters]
    cells += [("points at", f"{module.name}: {module.why}") for module in crash.modules[:_MODULES]]
    cells += [("stops at", plain_id(crash.phase))] if crash.phase else []
    outright = "" if crash.modules else crash.module
    place = (
        f"{crash.symbol} of the module {crash.module}"
        if crash.module and crash.symbol
        else crash.symbol or outright
    )
    cells += [("in", place)] if place else []
    who = f"{crash.program}, kernel {crash.version}" if crash.program else crash.version
    cells += [("during" if crash.program else "system", who)] if who else []
    cells += [
        ("dump" if crash.kind == "stop-code" else "kernel", sentence) for sentence in crash.marks
    ]
    cells += [("called by", " < ".join(crash.trace[:_CALLS]))] if crash.trace else []
    return [*cells, ("look at", ", ".join(plain_id(name) for name in crash.suspects))]
