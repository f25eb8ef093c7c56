"""Crashes of one kind told from others: an earlier fault of another kind says nothing of when this
one began.

Two ends of a run are of one kind where they show the same code and headline and name the same
module. Faults that show themselves differently each time (bad memory does) have no kind; then all
of them count together.
"""

from collections import Counter
from collections.abc import Sequence

import msgspec

from mending.crash.judge.onset import find_onset
from mending.crash.judge.timeline import Run, Timeline
from mending.crash.results import CrashResult
from mending.model import read_time

_NEAR = 5.0
"""Seconds that a crash may lie behind the last sign of life of its run."""
_LEAST, _MARGIN = 4, 3.0
"""Failures that make a kind, and how much better its beginning has to fit than that of all."""
SET_ASIDE = "set-aside"
Kind = tuple[str, str, str]


def main_kind(line: Timeline, crashes: Sequence[CrashResult]) -> Timeline:
    """The runs with only those failures that the beginning is about; others count as ends that say
    nothing.
    """
    kinds = _kinds(line, crashes)
    failed = [number for number, run in enumerate(line.runs) if run.failed]
    best, evidence = set(failed), _evidence(line, failed) * _MARGIN
    for kind, count in Counter(kinds[number] for number in failed).items():
        members = [number for number in failed if kinds[number] == kind]
        if count < _LEAST or count == len(failed) or kind is None:
            continue
        found = _evidence(line, members)
        if found > evidence:
            best, evidence = set(members), found
    if len(best) == len(failed):
        return line
    runs = tuple(
        run if not run.failed or number in best else msgspec.structs.replace(run, ended=SET_ASIDE)
        for number, run in enumerate(line.runs)
    )
    return msgspec.structs.replace(line, runs=runs)


def _evidence(line: Timeline, numbers: Sequence[int]) -> float:
    clock = line.clock()
    found = find_onset(
        sorted(clock.running(line.runs[number].end) for number in numbers), line.seconds
    )
    return found.evidence if found is not None else 0.0


def _kinds(line: Timeline, crashes: Sequence[CrashResult]) -> list[Kind | None]:
    """The kind in which each run ended; None where nothing tells it."""
    dated = [
        (read[0], crash)
        for crash in crashes
        if crash.at is not None and (read := read_time(crash.at)) is not None
    ]
    timed = sorted(dated, key=lambda row: row[0])
    found: list[Kind | None] = []
    place = 0
    for number, run in enumerate(line.runs):
        following = line.runs[number + 1].start if number + 1 < len(line.runs) else float("inf")
        until = min(run.end + _NEAR, following)
        inside = []
        while place < len(timed) and timed[place][0] <= until:
            if timed[place][0] >= run.start - _NEAR:
                inside.append(timed[place][1])
            place += 1
        found.append(_kind(run, inside))
    return found


def _kind(run: Run, crashes: Sequence[CrashResult]) -> Kind | None:
    """By the first crash of the run that names anything."""
    if not crashes:
        return (f"{run.code:#x}", "", run.named) if run.code or run.named else None
    told = next((crash for crash in crashes if crash.module), crashes[0])
    return told.code, told.headline.partition(":")[0], told.module
