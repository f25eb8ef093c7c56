"""Crashes as a person reads them."""

from collections import Counter
from collections.abc import Iterator

from rich.console import Group, RenderableType

from mending.cli.show.tables import indented, minute, plain_id, rows, size, text, title
from mending.crash.lookup import CodeMatch, CodeResult
from mending.crash.results import (
    SHADOW,
    CrashesResult,
    CrashResult,
    ErrorsResult,
    LoopResult,
    OnsetResult,
    RepairAttempt,
    RestoreResult,
    SilentEndResult,
    SuspectResult,
)
from mending.model import quoted

# When failing began, and with what, as a person reads it.


_SUSPECTS, _LOOPS, _WARNED, _SILENT = 5, 4, 3, 4
_FEW, _LIKELY = 3.0, 0.5
_CLOSE, _MILLION = 0.15, 1e6
_ENDINGS = ("clean", "crash", "unclean", "by-hand", "unknown", "running")


def in_short(result: CrashesResult) -> Iterator[RenderableType]:
    """What it comes to, before the evidence: which crash, since when, with what, what to do."""
    cells: list[tuple[object, ...]] = []
    counted = Counter(_kind(crash) for crash in result.crashes)
    if counted:
        (kind, count), *others = counted.most_common()
        more = f" and {len(others)} other {'kind' if len(others) == 1 else 'kinds'}"
        cells.append(("stops with", f"{kind}, {count} x{more if others else ''}"))
    if result.silent_ends:
        count = len(result.silent_ends)
        cells.append(("goes silent", f"{count} x; the last time {result.silent_ends[-1].says}"))
    for loop in result.loops[-1:]:
        cells.append(("restarts", loop.says))
    if result.onset is not None and result.onset.sure >= _FEW:
        cells.append(
            ("since", f"between {minute(result.onset.from_)} and {minute(result.onset.to)} UTC")
        )
    cells += _what_to_do(result)
    if cells:
        yield from _part("in short", cells)


def _kind(crash: CrashResult) -> str:
    named = " ".join(part for part in (crash.code, crash.name) if part) or crash.headline
    return f"{named}, in {crash.module}" if crash.module and not crash.code else named


def _what_to_do(result: CrashesResult) -> Iterator[tuple[object, ...]]:
    """With what it began, as far as that is known, and what that asks for."""
    point, first = result.restore_point, next(iter(result.suspects), None)
    blamed = first if first is not None and first.blamed else None
    likely = first if first is not None and first.share >= _LIKELY and not first.plugged else None
    if blamed is not None:
        yield ("with", blamed.change)
    elif likely is not None:
        yield ("with", f"perhaps {likely.change}: it fits best, which may be chance")
    suspect = blamed or likely
    if point is not None and point.id:
        yield ("do", f"go back to restore point {point.id}, {point.why}")
    elif suspect is not None and suspect.plugged:
        yield ("do", "leave it unplugged")
    elif suspect is not None and suspect.what == "device":
        yield ("do", f"take out {suspect.change}, and see whether it goes on")
    elif suspect is not None:
        yield ("do", f"put back what was there before {suspect.change}, and see whether it goes on")
    elif result.crashes and result.crashes[-1].suspects:
        yield ("do", f"look at {', '.join(map(plain_id, result.crashes[-1].suspects))} first")


def timeline_parts(result: CrashesResult) -> Iterator[RenderableType]:
    """Each part that there is something to say about."""
    if result.starts:
        yield from _part("starts", [("", _starts(result))])
    if result.silent_ends:
        yield from _part("silent ends", list(_silent(result.silent_ends)))
    if result.loops:
        yield from _part("restarts for ever", [_loop(loop) for loop in result.loops[:_LOOPS]])
    if result.onset is not None:
        yield from _part("began", list(_onset(result.onset)))
    if result.suspects:
        yield from _part("goes with", list(_suspects(result.suspects[:_SUSPECTS])), 0, _HEADS)
        yield indented(text(_verdict(result), "soft"))
        yield text("")
    if result.patterns:
        yield from _part(
            "in common",
            [
                (plain_id(pattern.id), _chance(pattern.says, pattern.p))
                for pattern in result.patterns
            ],
        )
    if result.errors:
        yield from _part("errors in the logs", [_errors(errors) for errors in result.errors])
    for attempt in result.repair_attempts:
        yield from _part("automatic repair", list(_attempt(attempt)))
    if result.restore_point is not None:
        yield from _part("go back to", list(_restore(result.restore_point, result)))
    if result.notes:
        yield from _part("notes", [("", note) for note in result.notes])


_HEADS = ("change", "when", "before", "after", "fit", "by chance")


def _part(
    name: str, cells: list[tuple[object, ...]], wide: int = -1, heads: tuple[str, ...] = ()
) -> Iterator[RenderableType]:
    if all(cell[0] == "" for cell in cells):
        cells = [cell[1:] for cell in cells]
    yield title(name)
    yield indented(rows(cells, heads, wide, drop=(5, 1) if heads else ()))
    yield text("")


def _starts(result: CrashesResult) -> str:
    counts = Counter(start.ended for start in result.starts)
    told = ", ".join(f"{counts[name]} ended {_ENDED[name]}" for name in _ENDINGS if counts[name])
    count = f"{len(result.starts)} {'start' if len(result.starts) == 1 else 'starts'}"
    return f"{count} in {result.hours:.1f} hours of running: {told}"


_ENDED = {
    "clean": "as they should",
    "crash": "in a crash",
    "unclean": "without being shut down",
    "by-hand": "by the power key while it still answered",
    "unknown": "nobody knows how",
    "running": "with the records",
}


def _silent(ends: tuple[SilentEndResult, ...]) -> Iterator[tuple[object, ...]]:
    """The newest, each with its last words."""
    for end in ends[: -_SILENT - 1 : -1]:
        yield (minute(end.at), f"{end.says}{f'; last words: {end.last}' if end.last else ''}")
    if len(ends) > _SILENT:
        yield ("", f"and {len(ends) - _SILENT} earlier ones; --json has all of them")


def _onset(onset: OnsetResult) -> Iterator[tuple[object, ...]]:
    if onset.sure < _FEW:
        yield ("when", f"too few failures to say; at the latest {minute(onset.to)}")
    else:
        yield ("when", f"between {minute(onset.from_)} and {minute(onset.to)} UTC")
    yield ("how sure", f"{onset.says} (a beginning fits {_times(onset.sure)} better than none)")
    yield ("seen first", minute(onset.first_failure))


def _times(ratio: float) -> str:
    return (
        "more than a million times"
        if ratio >= _MILLION
        else f"{ratio:,.3g} times"
        if ratio < 1000
        else f"{ratio:,.0f} times"
    )


def _suspects(found: tuple[SuspectResult, ...]) -> Iterator[tuple[object, ...]]:
    """One line each: failures for an hour of running, how well it fits among all. Marked is what
    can be blamed.
    """
    for suspect in found:
        mark = "» " if suspect.blamed else "  "
        rates = (f"{suspect.before_per_hour:.3g}/h", f"{suspect.after_per_hour:.3g}/h")
        yield (
            f"{mark}{suspect.change}",
            minute(suspect.at),
            *rates,
            f"{suspect.share:.0%}",
            f"{suspect.p:.2g}",
        )


def _verdict(result: CrashesResult) -> str:
    """What the table comes to. Changes inside the interval that fit alike cannot be told apart by
    their times.
    """
    found, onset = result.suspects, result.onset
    blamed = next((suspect for suspect in found if suspect.blamed), None)
    if blamed is not None:
        return f"» can be blamed, this is hardly chance: {blamed.says}."
    inside = [suspect for suspect in found if onset and onset.from_ <= suspect.at <= onset.to]
    close = [suspect for suspect in inside if suspect.share >= _CLOSE]
    if not inside:
        return "None can be blamed: failing did not begin with any of them."
    if len(close) > 1:
        return (
            f"None can be blamed: {len(close)} lie too close together to be told apart by their"
            " times."
        )
    return "None can be blamed: what fits best may be there by chance."


def _loop(loop: LoopResult) -> tuple[object, ...]:
    return (minute(loop.at), f"{loop.says}; every {loop.gap_seconds:.0f} s, spread {loop.spread}")


def _errors(errors: ErrorsResult) -> tuple[object, ...]:
    return (
        plain_id(errors.kind),
        f"{errors.count} times",
        f"{minute(errors.first)} to {minute(errors.last)}",
        errors.example,
    )


def _chance(says: str, p: float | None) -> str:
    return says if p is None else f"{says} (by chance: {p:.2g})"


def _attempt(attempt: RepairAttempt) -> Iterator[tuple[object, ...]]:
    yield ("", attempt.says)
    for what, lines in (
        ("complained", attempt.complained),
        ("found", attempt.found),
        ("tried", attempt.tried),
    ):
        for line in lines:
            yield ("", f"{what}: {line}")


def _restore(point: RestoreResult, result: CrashesResult) -> Iterator[tuple[object, ...]]:
    if not point.id:
        yield ("none", point.why)
        return
    yield (point.id, f"of {minute(point.at)}: {point.why}")
    yield from (("undoes", undoe) for undoe in point.undoes)
    if any(each.id == point.id and each.says.startswith(SHADOW) for each in result.restore_points):
        moment = quoted(f"{result.target}@{point.id}")
        yield ("compare", f"mending compare {moment} {quoted(result.target)}")
    late = [point for point in result.restore_points if point.fit == "after"][:_WARNED]
    yield from (
        ("not", f"{point.id} of {minute(point.at)}: it is later than the first failure")
        for point in late
    )


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


# Codes and messages as sentences.


_SURE = {"certain": "good", "likely": "doubt", "possible": "soft"}


def show_code(result: CodeResult) -> RenderableType:
    """Each reading: what it means, what its numbers say, where to look first, and how sure the
    reading is.
    """
    if not result.matches:
        return text(
            "Nothing in this text is known. A stop code, its name or a message word for word would"
            " help."
        )
    return Group(*(part for match in result.matches for part in (*_reading(match), text(""))))


def _reading(match: CodeMatch) -> list[RenderableType]:
    head = f"{match.code}  {match.name}" if match.code else f"message of {match.name}"
    phase = [text(f"The start fails in the phase {plain_id(match.phase)}.")] if match.phase else []
    numbers = [
        (f"{each.number}.", each.value, each.means or "not known for certain")
        for each in match.parameters
    ]
    parts: list[RenderableType] = [title(head), indented(text(match.says), *phase)]
    parts += [indented(rows(numbers, ("its", "number", "means"), wide=2))] if numbers else []
    looks = [(f"{number}.", sentence) for number, sentence in enumerate(match.look_first, 1)]
    parts += [indented(text("look first at"), rows(looks))]
    sure = f"{match.confidence}: {match.because}; from {match.source}"
    return [*parts, indented(text(sure, _SURE[match.confidence]))]
