"""Everything that the files of a target tell, put together: crashes, runs, onset, suspects, restore
points.
"""

import math
from collections.abc import Iterator, Sequence
from types import MappingProxyType

from mending.crash.judge.onset import (
    Onset,
    find_onset,
    fitted,
    loops,
    patterns,
    points_of,
    recommended,
    without_hands,
)
from mending.crash.judge.suspects import (
    Contents,
    Pointers,
    fails_in_kernel,
    main_kind,
    mentions_in,
    suspects,
)
from mending.crash.judge.timeline import Run, Timeline, merge, timeline
from mending.crash.lookup import look_up
from mending.crash.read import BY_HIVE, FileRead, LogEvent
from mending.crash.results import (
    CrashesResult,
    CrashResult,
    ErrorsResult,
    OnsetResult,
    StartResult,
    SuspectResult,
)
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
_DAY = 86_400.0
_SOON = 600.0
"""Seconds behind a start in which nothing was seen to work yet."""


def analyse(
    target: str,
    reads: Sequence[FileRead],
    count: int,
    codes: Codes,
    contents: Contents = MappingProxyType({}),
) -> CrashesResult:
    """What the files tell together.

    Args:
        count: bytes that were read.
        codes: what stop codes mean.
        contents: what packages and devices bring, by their names.
    """
    together = merge(reads)
    reads, crashes = together.reads, together.crashes
    events = list(_of_the_time(together.events))
    events += [
        event
        for crash in crashes
        if crash.kind == "stop-code" and crash.at
        for event in _of_dump(crash)
    ]
    firsts = [read_file.first for read_file in reads if read_file.first is not None]
    lasts = [read_file.last for read_file in reads if read_file.last is not None]
    line = timeline(events, min(firsts, default=None), max(lasts, default=None), _alive(reads))
    line, silent = without_hands(line, [(read.last or 0.0, read.last_words) for read in reads])
    failing = main_kind(line, crashes)
    pointers = Pointers(mentions_in(crashes, silent), contents, fails_in_kernel(crashes))
    blamed = suspects(failing, pointers)
    points = points_of((row for read_file in reads for row in read_file.points), line.events)
    onset = (
        _onset(failing) if len(line.runs) > 1 or points else None
    )  # of one run alone there is nothing to tell
    top = next((suspect for suspect in blamed if suspect.blamed), None)
    start, end = _bounds(failing, onset, top)
    return CrashesResult(
        target=target,
        files=tuple(read_file.name for read_file in reads),
        bytes=count,
        crashes=(*crashes, *_of_runs(line, codes)),
        hours=round(line.seconds / 3600, 3),
        starts=tuple(_start(run) for run in line.runs),
        silent_ends=silent,
        loops=loops(line),
        onset=_onset_result(failing, onset, (start, end)),
        suspects=blamed,
        patterns=patterns(line),
        errors=_errors(line.events),
        restore_points=fitted(points, start, end),
        restore_point=recommended(points, start, end, line.events, top),
        repair_attempts=tuple(attempt for read_file in reads for attempt in read_file.repairs),
        notes=(*together.notes, *_notes(reads)),
        written=together.written,
    )


def _of_the_time(events: Sequence[LogEvent]) -> Iterator[LogEvent]:
    """Without what hives tell of years before the records begin: of those nothing is known."""
    begins = min((event.at for event in events if event.by != BY_HIVE), default=math.inf) - _DAY
    return (event for event in events if event.by != BY_HIVE or event.at >= begins)


def _alive(reads: Sequence[FileRead]) -> list[float]:
    """The last entry of each file; beside records with a zone, what has none may lie hours off."""
    sure = any(
        event.kind is EventKind.START for read in reads if read.zoned for event in read.events
    )
    return [read.last for read in reads if read.last is not None and (read.zoned or not sure)]


def _of_dump(crash: CrashResult) -> Iterator[LogEvent]:
    """The crash of a dump as an event of the timeline, and the start before it."""
    at, _ = read_time(crash.at or "") or (0.0, True)
    if crash.uptime_seconds is not None:
        yield LogEvent(
            at=at - crash.uptime_seconds, kind=EventKind.START, file=crash.file, by="dump"
        )
    yield LogEvent(
        at=at,
        kind=EventKind.CRASH,
        code=int(crash.code, 16),
        name=crash.module,
        file=crash.file,
        by="dump",
    )


def _of_runs(line: Timeline, codes: Codes) -> Iterator[CrashResult]:
    """Crashes and unclean ends that only an entry of a log tells of."""
    told = {run.code for run in line.runs if run.told and run.code}
    meanings = {
        code: next(
            (match for match in look_up(f"{code:#x}", codes).matches if match.kind == "stop"), None
        )
        for code in told
    }
    for run in line.runs:
        event = run.told
        if event is None:
            continue
        code = f"{run.code:#x}" if run.code else ""
        known = meanings.get(run.code or 0)
        yield CrashResult(
            file=event.file,
            line=event.line,
            kind="stop-code" if code else "unclean-stop",
            at=plain_time(run.end),
            code=code,
            headline=f"stop code {code}" if code else "it was not shut down",
            name=known.name if known else "",
            says=known.says if known else "",
            phase=known.phase if known else "",
            suspects=known.suspects if known else ("power-or-heat", "driver"),
        )


def _start(run: Run) -> StartResult:
    minutes = sum(end - start for start, end in run.awake) / 60
    code = f"{run.code:#x}" if run.code else ""
    return StartResult(
        at=plain_time(run.start),
        ended=run.ended,
        minutes=round(minutes, 1),
        signed_in=run.signed_in,
        code=code,
    )


def _onset(line: Timeline) -> Onset | None:
    clock = line.clock()
    return find_onset(
        sorted(clock.running(run.end) for run in line.runs if run.failed), line.seconds
    )


def _bounds(
    line: Timeline, onset: Onset | None, top: SuspectResult | None
) -> tuple[float | None, float | None]:
    """The interval as times of the day. A beginning that hardly fits better than none may be as old
    as the records; where a change is blamed, it had begun when that was made.
    """
    if onset is None:
        return None, None
    clock = line.clock()
    start = clock.time(onset.start) if onset.evidence >= _SURE else line.runs[0].start
    first, last = _last_end(line, start), _next_start(line, clock.time(onset.end))
    made = read_time(top.at) if top is not None and not top.plugged else None
    if made is not None and first <= made[0] <= last:
        return first, made[0] + 1  # its time was cut to whole seconds
    return first, last


def _last_end(line: Timeline, at: float) -> float:
    """What shows itself just after a start may have begun in the pause before it."""
    place = next(
        (number for number, run in enumerate(line.runs) if run.start <= at <= run.start + _SOON),
        None,
    )
    return at if not place else line.runs[place - 1].end


def _next_start(line: Timeline, at: float) -> float:
    """A time that is the end of a run stands for all of the pause behind it: the PC was off."""
    following = next((run.start for run in line.runs if run.start >= at), None)
    running = any(start <= at < end - 1 for run in line.runs for start, end in run.awake)
    return at if running or following is None else following


def _onset_result(
    line: Timeline, onset: Onset | None, bounds: tuple[float | None, float | None]
) -> OnsetResult | None:
    start, end = bounds
    failed = [run for run in line.runs if run.failed]
    if start is None or end is None or onset is None:
        return None
    first = next((run for run in failed if run.end >= start), failed[0])
    sure = min(onset.evidence, 1e6)
    words = (
        "surely"
        if sure >= _CONFIDENT
        else "probably"
        if sure >= _SURE
        else "perhaps: too few failures to be sure"
    )
    before = sum(1 for run in failed if run.end < start)
    says = f"it {words} began then" if "perhaps" not in words else f"it began then, {words}"
    says += (
        f"; {before} earlier {'failure' if before == 1 else 'failures'} at a slower pace"
        if before
        else ""
    )
    return OnsetResult(
        from_=plain_time(start),
        to=plain_time(end),
        first_failure=plain_time(first.end),
        says=says,
        sure=round(sure, 2) if math.isfinite(sure) else 1e6,
    )


def _errors(events: Sequence[LogEvent]) -> tuple[ErrorsResult, ...]:
    found = []
    for kind in _ERRORS:
        same = [event for event in events if event.kind is kind]
        if same:
            example = f"{same[-1].what} {same[-1].name}".strip() or same[-1].says
            first, last = plain_time(same[0].at), plain_time(same[-1].at)
            found.append(
                ErrorsResult(kind=kind, count=len(same), first=first, last=last, example=example)
            )
    return tuple(found)


def _notes(reads: Sequence[FileRead]) -> tuple[str, ...]:
    notes = [note for read_file in reads for note in read_file.notes]
    timed = [read_file for read_file in reads if read_file.events]
    if any(not read_file.zoned for read_file in timed):
        notes.append("Some times carry no zone; they are taken for UTC.")
    return tuple(dict.fromkeys(notes))
