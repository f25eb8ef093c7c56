"""Crashes out of logs of any length: read in pieces, and only near what could begin one."""

from collections.abc import Iterator

import msgspec

from mending.crash.lookup import look_up
from mending.formats import kernel_log, panic_text
from mending.formats.kernel_log import KernelCrash
from mending.knowledge import Codes
from mending.source import Source

_PIECE = 128 * 1024
"""What stays in the processor's cache while it is looked through for every beginning."""
_FOLLOWING = 200
"""Lines behind a beginning that are read one by one; a crash has under a hundred."""
_MOST = 1000
_REPORT = 4 * 1024 * 1024
"""Largest panic report of a Darwin kernel; real ones have some ten KiB."""
_MACHINERY = {"dump_stack_lvl", "dump_stack", "panic", "show_stack", "die", "__die", "oops_end", "exc_page_fault",
              "asm_exc_page_fault", "page_fault_oops", "do_exit.cold"}  # fmt: skip
"""Functions that report a crash; who calls them is what counts."""


class CrashResult(msgspec.Struct, frozen=True, kw_only=True):
    """One crash, with what it means.

    Attributes:
        file: the log that tells of it; `line` counts from 1.
        phase: where the start failed that showed so; empty for a crash of a running system.
        marks: what the state of the kernel says, one sentence each.
        suspects: classes of what is behind it, the usual one first.
    """

    file: str
    line: int
    seconds: float | None
    kind: str
    headline: str
    reason: str
    symbol: str
    module: str
    program: str
    version: str
    taint: str
    marks: tuple[str, ...]
    trace: tuple[str, ...]
    says: str
    phase: str
    suspects: tuple[str, ...]


class CrashesResult(msgspec.Struct, frozen=True, kw_only=True, tag_field="mending", tag="crashes/1"):
    """What the logs of a target tell. `files` were read, `bytes` in all."""

    target: str
    files: tuple[str, ...]
    bytes: int
    crashes: tuple[CrashResult, ...]


def crashes_in(name: str, source: Source, codes: Codes) -> list[CrashResult]:
    """The crashes in one log, at most a thousand. Raises InputError."""
    found = _darwin(name, source, codes)
    for crash in kernel_log.read_crashes(_near_lines(source)):
        found.append(_result(name, crash, codes))
        if len(found) >= _MOST:
            break
    return found


def _darwin(name: str, source: Source, codes: Codes) -> list[CrashResult]:
    """The panic of a Darwin report: a text of its own, and never a large one."""
    data = source.read(0, _REPORT).data if source.size <= _REPORT else b""
    report = panic_text.read(data) if panic_text.MARK in data else None
    if report is None:
        return []
    known = next((one for one in look_up(report.headline, codes).matches if one.kind == "message"), None)
    guests = [one for one in report.extensions if not one.own]
    first = (guests or list(report.extensions))[:1]
    marks = tuple(f"{one.name} {one.version} is in the backtrace and not the system's own" for one in guests)
    return [
        CrashResult(
            file=name, line=report.line, seconds=None, kind="panic", headline=report.headline, reason="", symbol="",
            module=first[0].name if first else "", program=report.program, version=report.version, taint="",
            marks=(*marks, *report.last), trace=tuple(one.name for one in report.extensions),
            says=known.says if known else "", phase=known.phase if known else "",
            suspects=("driver", "added-software") if guests else known.suspects if known else ("driver", "memory"),
        )
    ]  # fmt: skip


def _near_lines(source: Source) -> Iterator[tuple[int, bytes]]:
    """Lines from each beginning on, as far as a crash may go; a line that never ends is cut.

    Lines of stretches without a beginning are counted only where one comes behind them: a sound log has none.
    """
    number, left, rest, at, counted = 0, 0, b"", 0, 0
    while at < source.size:
        start = at - len(rest)
        piece = rest + source.read(at, _PIECE).data
        at = start + len(piece)
        cut = piece.rfind(b"\n") + 1 if at < source.size else len(piece)
        cut = cut if cut or len(piece) <= _PIECE else len(piece)
        whole, rest = piece[:cut], piece[cut:]
        if not left and not any(mark in whole for mark in kernel_log.BEGINNINGS):
            continue
        number += _lines_between(source, counted, start)
        counted = start + cut
        for line in whole.splitlines():
            number += 1
            if any(mark in line for mark in kernel_log.BEGINNINGS):
                left = _FOLLOWING
            if left:
                left -= 1
                yield number, line
        if whole and not whole.endswith(b"\n"):
            number -= 1  # a line that was cut goes on


def _lines_between(source: Source, start: int, end: int) -> int:
    return sum(source.read(at, min(_PIECE, end - at)).data.count(b"\n") for at in range(start, end, _PIECE))


def _result(name: str, crash: KernelCrash, codes: Codes) -> CrashResult:
    readings = [one for text in (crash.headline, crash.reason) for one in look_up(text, codes).matches]
    known = next((one for one in readings if one.kind == "message" and one.sureness == "certain"), None)
    trace = [one for one in crash.trace if one.sure and one.symbol not in _MACHINERY]
    outside = crash.module or next((one.module for one in trace if one.module), "")
    suspects = known.suspects if known else ("driver", "memory")
    return CrashResult(
        file=name, line=crash.line, seconds=crash.seconds, kind=crash.kind, headline=crash.headline,
        reason=crash.reason,
        symbol=crash.symbol or (trace[0].symbol if trace else ""),
        module=outside, program=crash.program, version=crash.version, taint=crash.taint,
        marks=kernel_log.taint_says(crash.taint), says=known.says if known else "", phase=known.phase if known else "",
        trace=tuple(f"{one.symbol}{f' [{one.module}]' if one.module else ''}" for one in trace),
        suspects=suspects,
    )  # fmt: skip
