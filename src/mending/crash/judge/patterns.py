"""What crashes have in common: loops of starts, codes, warmth, sleep. Each as a number, with what
it suggests.

Each pattern compares what was seen with what would be expected if failures knew nothing of it:
failures late in a run with the share of running time that lies so late, failures after waking with
the share that lies there, codes with how often two of them would agree by chance. So a PC that
always runs long is not called warm, and few crashes give no pattern at all.
"""

import statistics
from collections import Counter
from collections.abc import Iterator, Sequence
from itertools import pairwise

from mending.crash.judge.onset import exact_p
from mending.crash.judge.timeline import Run, Timeline
from mending.crash.results import LoopResult, PatternResult
from mending.knowledge import EventKind
from mending.model import plain_time

_LEAST_LOOP = 3
_SHORT, _SHORTER = 900.0, 300.0
"""Longest run of a loop in seconds, where the records tell of sign-ins, and where they do not."""
_REGULAR = 0.15
_WARM, _AFTER_SLEEP = 1200.0, 600.0
_SURE = 0.05
_LEAST_CODES = 4
_MOSTLY, _SCATTERED = 0.75, 0.8


def loops(line: Timeline) -> tuple[LoopResult, ...]:
    """Starts one after the other that never came to the sign-in. Restarts that were asked for end
    cleanly: no loop.
    """
    tells = any(event.kind is EventKind.SIGNED_IN for event in line.events)
    found: list[list[Run]] = []
    current: list[Run] = []
    for run in line.runs:
        if _may_loop(run, tells):
            current.append(run)
        else:
            found.append(current)
            current = []
    return tuple(_loop(runs) for runs in (*found, current) if _is_loop(runs))


def _may_loop(run: Run, tells: bool) -> bool:
    limit = _SHORT if tells else _SHORTER
    return run.ended != "clean" and not run.signed_in and run.end - run.start < limit


def _is_loop(runs: Sequence[Run]) -> bool:
    """At least three starts, of which all but the last failed."""
    close = all(other.start - run.start < 2 * _SHORT for run, other in pairwise(runs))
    return (
        len(runs) >= _LEAST_LOOP
        and close
        and any(run.failed or run.ended == "unknown" for run in runs)
    )


def _loop(runs: Sequence[Run]) -> LoopResult:
    gaps = [other.start - run.start for run, other in pairwise(runs)]
    mean = statistics.mean(gaps)
    spread = statistics.stdev(gaps) / mean if len(gaps) > 1 and mean else 0.0
    regular = len(gaps) > 1 and mean > 0 and spread < _REGULAR
    means = (
        "always after the same time, as by a watchdog or a crash at one point of starting"
        if regular
        else (
            "after times that differ, as by heat, power or memory"
            if len(gaps) > 1 and mean
            else "too few to see a rhythm"
            if mean
            else "and the clock, which began anew each time, tells nothing of a rhythm"
        )
    )
    return LoopResult(
        starts=len(runs),
        at=plain_time(runs[0].start),
        until=plain_time(runs[-1].start),
        gap_seconds=round(statistics.median(gaps), 1),
        spread=round(spread, 3),
        regular=regular,
        says=f"{len(runs)} starts one after the other without a sign-in, {means}",
    )


def patterns(line: Timeline) -> tuple[PatternResult, ...]:
    """What stands out; nothing where the crashes are too few to tell."""
    return (*_codes(line), *_warm(line), *_after_sleep(line))


def _codes(line: Timeline) -> Iterator[PatternResult]:
    """How often two crashes taken at random have different codes (Simpson, Nature 163, 1949)."""
    codes = [run.code for run in line.runs if run.code]
    if len(codes) < _LEAST_CODES:
        return
    counts = Counter(codes)
    code, most = counts.most_common(1)[0]
    differ = 1 - sum(count * (count - 1) for count in counts.values()) / (
        len(codes) * (len(codes) - 1)
    )
    if most / len(codes) >= _MOSTLY:
        says = (
            f"{most} of {len(codes)} crashes have the same code, {code:#x}: one driver or file, not"
            " chance"
        )
        yield PatternResult(
            id="same-code", says=says, value=round(differ, 3), p=None, suspects=("driver", "update")
        )
    elif differ >= _SCATTERED:
        says = (
            f"two of the {len(codes)} crashes have different codes {differ:.0%} of the time:"
            " memory, power or heat"
        )
        yield PatternResult(
            id="scattered-codes",
            says=says,
            value=round(differ, 3),
            p=None,
            suspects=("memory", "power-or-heat"),
        )


def _warm(line: Timeline) -> Iterator[PatternResult]:
    """Failures late in a run, against the share of running time that lies so late."""
    ran = [(sum(end - start for start, end in run.awake), run.failed) for run in line.runs]
    total, failed = sum(length for length, _ in ran), sum(1 for _, bad in ran if bad)
    late = sum(max(length - _WARM, 0.0) for length, _ in ran)
    if failed < _LEAST_CODES or not total or not late:
        return
    count = sum(1 for length, bad in ran if bad and length >= _WARM)
    p = exact_p(count, failed, late / total)
    if p <= _SURE:
        says = (
            f"{count} of {failed} failures came after {_WARM / 60:.0f} minutes of running, where"
            f" {late / total:.0%} of the running time lies: only when warm"
        )
        yield PatternResult(
            id="only-warm",
            says=says,
            value=round(count / failed, 3),
            p=p,
            suspects=("power-or-heat",),
        )


def _after_sleep(line: Timeline) -> Iterator[PatternResult]:
    """Failures within minutes of waking up, against the share of running time that lies there."""
    woken = [(start, end, run) for run in line.runs for start, end in run.awake[1:]]
    failed = sum(1 for run in line.runs if run.failed)
    if not woken or not failed or not line.seconds:
        return
    seconds = sum(min(end - start, _AFTER_SLEEP) for start, end, _ in woken)
    count = sum(
        1
        for start, end, run in woken
        if run.failed and run.end == end and end - start <= _AFTER_SLEEP
    )
    p = exact_p(count, failed, seconds / line.seconds) if count > 1 else 1.0
    if p <= _SURE:
        says = (
            f"{count} of {failed} failures came within {_AFTER_SLEEP / 60:.0f} minutes of waking"
            " up: after sleep"
        )
        yield PatternResult(
            id="after-sleep",
            says=says,
            value=round(count / failed, 3),
            p=p,
            suspects=("driver", "firmware"),
        )
