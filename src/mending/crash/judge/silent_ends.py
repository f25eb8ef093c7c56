"""Runs that end without a shutdown and without a crash: what was last, and what speaks for a
person, for heat, for power or for a watchdog.

Who switches a PC off by force while it still answers has not seen a fault. So such ends do not
count as failures; where the PC had been silent before the key was held, or nothing tells, they do.
"""

import bisect
from collections.abc import Iterator, Sequence

import msgspec

from mending.crash.judge.timeline import Timeline
from mending.crash.read import LogEvent
from mending.crash.results import SilentEndResult
from mending.knowledge import EventKind
from mending.model import plain_time

BY_HAND, ANSWERED = "by-hand", "answered"
_BEFORE, _KEY, _ANSWERED, _AFTER = 600.0, 30.0, 60.0, 3600.0
"""Seconds before an end that count; from the key to the end; from the last entry to the key of a PC
that still answers; after the next start in which it is told how this one ended.
"""
_SAME = 2.0
_SIGNS = {
    EventKind.TOO_HOT: "heat",
    EventKind.POWER: "power",
    EventKind.HARDWARE_ERROR: "errors of the hardware",
    EventKind.DISK_ERROR: "errors of a drive",
    EventKind.FILE_SYSTEM_ERROR: "errors of a file system",
}
_KEY_WORDS, _WATCHDOG_WORDS = "power button", "watchdog"
"""In the reason for the last reset that a kernel reads from the processor."""


def without_hands(
    line: Timeline, files: Sequence[tuple[float, str]] = ()
) -> tuple[Timeline, tuple[SilentEndResult, ...]]:
    """The runs, of which those that a person cut short count no longer as failed; and what is known
    of every silent end.

    Args:
        files: Unix seconds and words of the last entry of each file.
    """
    runs, found = list(line.runs), list[SilentEndResult]()
    times = [event.at for event in line.events]

    def between(start: float, end: float) -> Sequence[LogEvent]:
        return line.events[bisect.bisect_left(times, start) : bisect.bisect_right(times, end)]

    for number, run in enumerate(line.runs[:-1]):
        if run.ended != "unclean":
            continue
        following = line.runs[number + 1].start
        before = between(max(run.end - _BEFORE, run.start), run.end)
        end = _end(run.end, following, before, between(following, following + _AFTER))
        if not end.last:  # the next start stands in a file of its own
            ends = (words for at, words in files if words and abs(at - run.end) <= _SAME)
            end = msgspec.structs.replace(end, last=next(ends, ""))
        found.append(end)
        if end.by_hand == ANSWERED:
            runs[number] = msgspec.structs.replace(run, ended=BY_HAND)
    return msgspec.structs.replace(line, runs=tuple(runs)), tuple(found)


def _end(
    ended: float, following: float, before: Sequence[LogEvent], behind: Sequence[LogEvent]
) -> SilentEndResult:
    """What is known of one end.

    Args:
        ended: the last sign of life; `following` the start behind it.
        before, behind: events of the last minutes, and those behind the next start.
    """
    last = [event for event in before if not event.earlier]
    signs = tuple(dict.fromkeys(_SIGNS[event.kind] for event in last if event.kind in _SIGNS))
    reset = next((each.name for each in behind if each.kind is EventKind.RESET_REASON), "")
    key = next((each for each in reversed(last) if each.kind is EventKind.POWER_KEY), None)
    key = key if key is not None and ended - key.at <= _KEY else None
    held = any(event.earlier and event.by_hand for event in behind)
    by_hand = _by_hand(key, told=held or _KEY_WORDS in reset, signs=signs)
    starts = (event for event in behind if event.kind is EventKind.START)
    words = next((event.words_before for event in starts if event.words_before), "")
    silence = following - ended
    return SilentEndResult(
        at=plain_time(ended),
        last=words,
        silent_seconds=round(silence, 1),
        signs=signs,
        reset=reset,
        watchdog=_WATCHDOG_WORDS in reset,
        by_hand=by_hand,
        says="; ".join(_sentences(silence, signs, reset, by_hand)),
    )


def _by_hand(key: LogEvent | None, *, told: bool, signs: tuple[str, ...]) -> str:
    if key is None:
        return "unknown" if told else ""
    if signs or key.previous is None:
        return "unknown"
    return ANSWERED if key.at - key.previous <= _ANSWERED else "hung"


def _sentences(silence: float, signs: tuple[str, ...], reset: str, by_hand: str) -> Iterator[str]:
    yield f"nothing for {_span(silence)} until the next start"
    if signs:
        yield f"shortly before: {', '.join(signs)}"
    if by_hand:
        yield _HANDS[by_hand]
    if reset:
        yield f"the processor says: {reset}"


_HANDS = {
    ANSWERED: "the power key was pressed while it still answered: no fault",
    "hung": "the power key was pressed after it had gone silent: it hung",
    "unknown": "somebody held the power key; whether it hung is not told",
}


def _span(seconds: float) -> str:
    for size, name in ((86_400, "days"), (3600, "hours"), (60, "minutes")):
        if seconds >= 2 * size:
            return f"{seconds / size:.0f} {name}"
    return f"{seconds:.0f} s"
