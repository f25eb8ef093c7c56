"""Everything that the files of a target tell, put together: crashes, runs, onset, suspects, restore points."""

import math
from collections.abc import Iterator, Sequence

from mending.crash.events import Event
from mending.crash.lookup import look_up
from mending.crash.onset import Onset, find_onset
from mending.crash.patterns import loops, patterns
from mending.crash.reading import FileRead
from mending.crash.restore import fitted, points_of, recommended
from mending.crash.results import CrashesResult, CrashResult, ErrorsResult, OnsetResult, StartResult
from mending.crash.suspects import suspects
from mending.crash.timeline import Run, Timeline, timeline
from mending.knowledge import Codes, EventKind
from mending.model import plain_time, read_time

_ERRORS = (
    EventKind.DISK_ERROR,
    EventKind.FILE_SYSTEM_ERROR,
    EventKind.HARDWARE_ERROR,
    EventKind.TOO_HOT,
    EventKind.FAILED,
)
_SURE = 3.0
"""How many times better a beginning must fit than none, to be called one."""
_CONFIDENT = 20.0
_SOON = 600.0
"""Seconds behind a start in which nothing was seen to work yet."""


def analyse(target: str, reads: Sequence[FileRead], count: int, codes: Codes) -> CrashesResult:
    """What the files tell together.

    Args:
        count: bytes that were read.
        codes: what stop codes mean.
    """
    crashes = tuple(crash for one in reads for crash in one.crashes)
    events = [event for one in reads for event in one.events]
    events += [event for one in crashes if one.kind == "stop-code" and one.at for event in _of_dump(one)]
    firsts = [one.first for one in reads if one.first is not None]
    lasts = [one.last for one in reads if one.last is not None]
    line = timeline(events, min(firsts, default=None), max(lasts, default=None))
    blamed = suspects(line)
    points = points_of((row for one in reads for row in one.points), line.events)
    onset = _onset(line) if len(line.runs) > 1 or points else None  # of one run alone there is nothing to tell
    start, end = _bounds(line, onset)
    top = next((one for one in blamed if one.blamed), None)
    return CrashesResult(
        target=target, files=tuple(one.name for one in reads), bytes=count, crashes=(*crashes, *_of_runs(line, codes)),
        hours=round(line.seconds / 3600, 3), starts=tuple(_start(run) for run in line.runs), loops=loops(line),
        onset=_onset_result(line, onset), suspects=blamed, patterns=patterns(line), errors=_errors(line.events),
        restore_points=fitted(points, start, end), restore_point=recommended(points, start, end, line.events, top),
        repair_attempts=tuple(attempt for one in reads for attempt in one.repairs), notes=_notes(reads),
    )  # fmt: skip


def _of_dump(crash: CrashResult) -> Iterator[Event]:
    """The crash of a dump as an event of the timeline, and the start before it."""
    at, _ = read_time(crash.at or "") or (0.0, True)
    if crash.uptime_seconds is not None:
        yield Event(at=at - crash.uptime_seconds, kind=EventKind.START, file=crash.file, by="dump")
    yield Event(at=at, kind=EventKind.CRASH, code=int(crash.code, 16), name=crash.module, file=crash.file, by="dump")


def _of_runs(line: Timeline, codes: Codes) -> Iterator[CrashResult]:
    """Crashes and unclean ends that only an entry of a log tells of."""
    told = {run.code for run in line.runs if run.told and run.code}
    meanings = {
        code: next((one for one in look_up(f"{code:#x}", codes).matches if one.kind == "stop"), None) for code in told
    }
    for run in line.runs:
        one = run.told
        if one is None:
            continue
        code = f"{run.code:#x}" if run.code else ""
        known = meanings.get(run.code or 0)
        yield CrashResult(
            file=one.file, line=one.line, kind="stop-code" if code else "unclean-stop", at=plain_time(run.end),
            code=code,
            headline=f"stop code {code}" if code else "it was not shut down", name=known.name if known else "",
            says=known.says if known else "", phase=known.phase if known else "",
            suspects=known.suspects if known else ("power-or-heat", "driver"),
        )  # fmt: skip


def _start(run: Run) -> StartResult:
    minutes = sum(end - start for start, end in run.awake) / 60
    code = f"{run.code:#x}" if run.code else ""
    return StartResult(
        at=plain_time(run.start), ended=run.ended, minutes=round(minutes, 1), signed_in=run.signed_in, code=code
    )  # fmt: skip


def _onset(line: Timeline) -> Onset | None:
    clock = line.clock()
    return find_onset(sorted(clock.running(run.end) for run in line.runs if run.failed), line.seconds)


def _bounds(line: Timeline, onset: Onset | None) -> tuple[float | None, float | None]:
    """The interval as times of the day. A beginning that hardly fits better than none may be as old as the records."""
    if onset is None:
        return None, None
    clock = line.clock()
    start = clock.time(onset.start) if onset.evidence >= _SURE else line.runs[0].start
    return _last_end(line, start), _next_start(line, clock.time(onset.end))


def _last_end(line: Timeline, at: float) -> float:
    """What shows itself just after a start may have begun in the pause before it."""
    place = next((number for number, run in enumerate(line.runs) if run.start <= at <= run.start + _SOON), None)
    return at if not place else line.runs[place - 1].end


def _next_start(line: Timeline, at: float) -> float:
    """A time that is the end of a run stands for all of the pause behind it: the PC was off."""
    following = next((run.start for run in line.runs if run.start >= at), None)
    running = any(start <= at < end - 1 for run in line.runs for start, end in run.awake)
    return at if running or following is None else following


def _onset_result(line: Timeline, onset: Onset | None) -> OnsetResult | None:
    start, end = _bounds(line, onset)
    failed = [run for run in line.runs if run.failed]
    if start is None or end is None or onset is None:
        return None
    first = next((run for run in failed if run.end >= start), failed[0])
    sure = min(onset.evidence, 1e6)
    words = "surely" if sure >= _CONFIDENT else "probably" if sure >= _SURE else "perhaps: too few failures to be sure"
    before = sum(1 for run in failed if run.end < start)
    says = f"it {words} began then" if "perhaps" not in words else f"it began then, {words}"
    says += f"; {before} earlier {'failure' if before == 1 else 'failures'} at a slower pace" if before else ""
    return OnsetResult(
        from_=plain_time(start), to=plain_time(end), first_failure=plain_time(first.end), says=says,
        sure=round(sure, 2) if math.isfinite(sure) else 1e6,
    )  # fmt: skip


def _errors(events: Sequence[Event]) -> tuple[ErrorsResult, ...]:
    found = []
    for kind in _ERRORS:
        same = [one for one in events if one.kind is kind]
        if same:
            example = f"{same[-1].what} {same[-1].name}".strip() or same[-1].says
            first, last = plain_time(same[0].at), plain_time(same[-1].at)
            found.append(ErrorsResult(kind=kind, count=len(same), first=first, last=last, example=example))
    return tuple(found)


def _notes(reads: Sequence[FileRead]) -> tuple[str, ...]:
    notes = [note for one in reads for note in one.notes]
    timed = [one for one in reads if one.events]
    if any(not one.zoned for one in timed):
        notes.append("Some times carry no zone; they are taken for UTC.")
    return tuple(dict.fromkeys(notes))
